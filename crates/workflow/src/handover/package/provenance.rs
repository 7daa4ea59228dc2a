//! Where all that a package rests on comes from.

use bothros_products::Row;
use serde_json::Value as Json;

use super::Ingredients;
use crate::Provenance;
use crate::conditioning::choices::is_used;

/// Every input: what it is, where it comes from, and its checksum.
pub(super) fn provenance(from: &Ingredients) -> Vec<Row> {
    let mut out: Vec<Row> = Vec::new();
    let mut row = |input: &str, file: &str, p: &Provenance, bytes: Option<u64>, sha256: &str| {
        out.push(vec![
            (out.len() as u32 + 1).into(),
            input.into(),
            file.into(),
            p.source.clone().into(),
            p.date.clone().into(),
            p.scale.clone().into(),
            p.licence.clone().into(),
            p.datum.clone().into(),
            bytes.and_then(|b| i64::try_from(b).ok()).into(),
            sha256.into(),
        ]);
    };
    if let Some(source) = &from.facts.source {
        row("DEM", &source.file, &source.provenance, Some(source.bytes), &from.dem_sha256);
        for f in &source.more {
            row("DEM", &f.file, &f.provenance, Some(f.bytes), &f.sha256);
        }
    }
    if let Some(w) = &from.facts.settings.weights {
        row("Weights", &w.file, &w.provenance, None, &w.sha256);
    }
    for r in &from.facts.settings.rasters {
        row(&format!("Raster: {}", r.name), &r.file, &r.provenance, None, &r.sha256);
    }
    let text = |told: &Json, key: &str| told[key].as_str().unwrap_or_default().to_owned();
    let known = |told: &Json| Provenance {
        source: text(told, "source"),
        date: text(told, "date"),
        scale: text(told, "scale"),
        licence: text(told, "licence"),
        datum: String::new(),
    };
    for layer in from.layers.iter().filter(|l| is_used(&from.facts, l)) {
        let told = &layer.provenance;
        let drawn = layer.provenance["drawn"] == true;
        let file = if drawn { "drawn in the study".to_owned() } else { text(told, "file") };
        row(layer.role.title(), &file, &known(told), told["bytes"].as_u64(), &text(told, "sha256"));
    }
    for picture in &from.pictures {
        let told = &picture.provenance;
        row("Picture", &text(told, "file"), &known(told), None, &text(told, "sha256"));
    }
    out
}
