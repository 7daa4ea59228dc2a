//! The layers of a study as a list.

use askama::Template;
use bothros_store::{Layer, LayerRole};

use crate::App;
use crate::http::error::Result;
use crate::ui::{quantity, render};

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

/// The section of a desk that lists the layers and takes more.
#[derive(Template)]
#[template(path = "map/layers_section.html")]
struct Section {
    study: i64,
    layers: Vec<LayerRow>,
    roles: Vec<(&'static str, &'static str)>,
}

/// The section for a stage that only lists the layers.
pub(crate) async fn layers_section(app: &App, study: i64) -> Result<String> {
    let layers = app.store.layers(study).await?;
    render(&Section { study, layers: layer_rows(&layers), roles: roles() })
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
