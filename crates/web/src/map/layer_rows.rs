//! The layers of a study as a list.

use bothros_store::{Layer, LayerRole};

use crate::ui::quantity;

pub(crate) struct LayerRow {
    pub id: i64,
    pub role: &'static str,
    pub name: String,
    pub features: String,
    pub about: String,
}

/// What a layer can be to a study, by name and title.
pub(crate) fn roles() -> Vec<(&'static str, &'static str)> {
    LayerRole::ALL.into_iter().map(|r| (r.name(), r.title())).collect()
}

pub(crate) fn layer_rows(layers: &[Layer]) -> Vec<LayerRow> {
    layers.iter().filter(|l| l.role != LayerRole::Provisional).map(layer_row).collect()
}

fn layer_row(layer: &Layer) -> LayerRow {
    let text = |key: &str| layer.provenance[key].as_str().filter(|t| !t.is_empty()).map(str::to_owned);
    let about = match layer.provenance["drawn"].as_bool() {
        Some(true) => "drawn on the map".to_owned(),
        _ => ["file", "source", "date", "licence", "converted_from"]
            .into_iter()
            .filter_map(text)
            .collect::<Vec<_>>()
            .join(", "),
    };
    LayerRow {
        id: layer.id,
        role: layer.role.title(),
        name: layer.name.clone(),
        features: quantity::whole(layer.features as u64),
        about,
    }
}
