//! What a study rests on: its files and layers, with where they come from.

use bothros_sheets::report::Block;
use bothros_store::Store;

use super::table;
use crate::{Facts, Provenance, Result, quantity};

/// The DEM's files and the layers, with their provenance.
pub(super) async fn inputs(store: &Store, facts: &Facts) -> Result<Vec<Block>> {
    let mut blocks = Vec::new();
    let told = |p: &Provenance| {
        [&p.source, &p.date, &p.scale, &p.licence, &p.datum].map(|text| match text.trim() {
            "" => "not stated".to_owned(),
            text => text.to_owned(),
        })
    };
    if let Some(source) = &facts.source {
        let file = |n: usize| match n.checked_sub(1).map(|n| &source.more[n]) {
            Some(file) => (&file.file, file.bytes, &file.provenance),
            None => (&source.file, source.bytes, &source.provenance),
        };
        let row = |n: usize| {
            let (name, bytes, provenance) = file(n);
            let [made_by, date, scale, licence, datum] = told(provenance);
            vec![name.clone(), quantity::bytes(bytes), made_by, date, scale, licence, datum]
        };
        let heads = [
            ("File", false),
            ("Size", true),
            ("Source", false),
            ("Date", false),
            ("Scale or resolution", false),
            ("Licence", false),
            ("Vertical datum", false),
        ];
        let rows = source.order().into_iter().map(row).collect();
        blocks.extend(table("dem_files", "Files of the DEM, in the order in which they count", &heads, rows));
    }
    let mut rows = Vec::new();
    for layer in store.layers(facts.study).await? {
        if layer.role == bothros_store::LayerRole::Provisional {
            continue;
        }
        let of: Provenance = serde_json::from_value(layer.provenance.clone()).unwrap_or_default();
        let [made_by, date, scale, licence, _] = told(&of);
        let count = quantity::whole(layer.features as u64);
        rows.push(vec![layer.role.title().to_owned(), layer.name, count, made_by, date, scale, licence]);
    }
    let heads = [
        ("Layer", false),
        ("Name", false),
        ("Features", true),
        ("Source", false),
        ("Date", false),
        ("Scale", false),
        ("Licence", false),
    ];
    blocks.extend(table("layers", "Layers that were given or drawn", &heads, rows));
    Ok(blocks)
}
