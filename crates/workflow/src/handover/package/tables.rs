//! Layers, tables and styles of a package.

use bothros_core::catchments::Labelled;
use bothros_formats::{Transform, VectorFormat, write_layers};
use bothros_products::{
    AREA_DISTANCE, CATCHMENTS, CLASS_SHARES, CONNECTIVITY, CROSS_SECTIONS, Delineated, FLOWPATHS, HYPSOMETRY,
    MEASURES, NEXUSES, POUR_POINTS, PROVENANCE, Placed, RASTER_FIGURES, Row, SHAPEFILE_FIELDS,
    SUBBASIN_PARAMETERS, SUBBASINS, TRIALS, Table, datapackage, schematic,
};

use rayon::prelude::*;

use super::layers::{fields_of_shapefiles, placed, stems};
use super::provenance::provenance;
use super::{Ingredients, Writing, highest_order, styles};
use crate::{KeptTrial, ModelTables, Result};

/// Writes layers, tables, styles and the schematic; the names of their files.
pub(super) fn write_tables(
    from: &Ingredients,
    found: &Labelled,
    mut writing: Writing,
) -> Result<Vec<String>> {
    let (grids, dir, short) = (&*from.land.grids, writing.dir, writing.short);
    let (frame, crs) = (&grids.frame, &from.crs);
    let points: Vec<Placed> = from.land.points.iter().map(placed).collect();
    let coverage = from.land.subbasins.coverage.soft(from.facts.settings.subbasins.outline);
    let land = Delineated {
        points: &points,
        catchments: found,
        subbasins: &from.land.subbasins.basins,
        names: &from.land.names,
        coverage: &coverage,
        frame,
    };
    let streams = &from.land.stream_cells;
    let stems = stems(grids, streams, &from.land.network, from.threshold, &from.land.points)?;
    let mut layers = vec![
        bothros_products::reaches(&from.land.network, frame, grids.below_edge(), Some(found))?,
        bothros_products::junctions(&from.land.network, frame)?,
        bothros_products::main_stems(&stems, &grids.directions, &grids.filled, frame)?,
        land.catchments()?,
        land.subbasins()?,
        bothros_products::pour_points(&points, found, frame)?,
    ];
    if let Some(model) = &from.land.model {
        layers.extend([model.flowpaths.clone(), model.nexuses.clone()]);
    }
    let path = writing.file("network.gpkg")?;
    let wanted = from.facts.settings.handover.crs.as_ref();
    let converted = match wanted {
        Some(wanted) if !wanted.same_as(crs)? => {
            let to = Transform::new(crs, wanted)?;
            Some(layers.iter().map(|l| l.converted(&to)).collect::<bothros_formats::Result<Vec<_>>>()?)
        }
        _ => None,
    };
    let (layers_crs, drawn) = match (&converted, wanted) {
        (Some(converted), Some(wanted)) => (wanted, converted),
        _ => (crs, &layers),
    };
    let files = layers.iter().map(|layer| writing.file(&format!("{}.geojson", layer.name)));
    let files = files.collect::<Result<Vec<_>>>()?;
    // Each file takes one thread, most of it for turning numbers into text.
    let (whole, each) = rayon::join(
        || write_layers(&path, VectorFormat::GeoPackage, layers_crs, drawn),
        || {
            let pairs = files.par_iter().zip(&layers).with_max_len(1);
            pairs.try_for_each(|(path, layer)| {
                write_layers(path, VectorFormat::GeoJson, crs, std::slice::from_ref(layer))
            })
        },
    );
    whole.and(each)?;
    let shapefiles = from.facts.settings.handover.shapefiles;
    let mut beside = Vec::new();
    for layer in drawn.iter().filter(|_| shapefiles) {
        let path = writing.file(&format!("{}.shp", layer.name))?;
        write_layers(&path, VectorFormat::Shapefile, layers_crs, std::slice::from_ref(layer))?;
        let parts = ["shx", "dbf", "prj", "cpg"].map(|part| format!("{short}_{}.{part}", layer.name));
        beside.extend(parts.into_iter().filter(|name| dir.join(name).exists()));
    }
    writing.files.append(&mut beside);
    writing.are_written()?;
    let rows_of = |table: &Table| -> Vec<Row> {
        let layer = layers.iter().find(|l| l.name == table.name);
        layer.map_or(Vec::new(), |l| l.features.iter().map(|(_, row)| row.clone()).collect())
    };
    let none = Vec::new();
    let of_model = |rows: fn(&ModelTables) -> &Vec<Row>| from.land.model.as_ref().map_or(&none, rows).clone();
    let tables: [(&Table, Vec<Row>); 16] = [
        (&CATCHMENTS, rows_of(&CATCHMENTS)),
        (&SUBBASINS, rows_of(&SUBBASINS)),
        (&POUR_POINTS, rows_of(&POUR_POINTS)),
        (&MEASURES, from.land.measures.clone()),
        (&RASTER_FIGURES, from.land.inside.figures.clone()),
        (&CLASS_SHARES, from.land.inside.classes.clone()),
        (&SUBBASIN_PARAMETERS, of_model(|m| &m.subbasins)),
        (&FLOWPATHS, rows_of(&FLOWPATHS)),
        (&NEXUSES, rows_of(&NEXUSES)),
        (&CONNECTIVITY, of_model(|m| &m.connectivity)),
        (&HYPSOMETRY, of_model(|m| &m.hypsometry)),
        (&AREA_DISTANCE, of_model(|m| &m.area_distance)),
        (&CROSS_SECTIONS, from.land.sections.clone()),
        (&PROVENANCE, provenance(from)),
        (&SHAPEFILE_FIELDS, if shapefiles { fields_of_shapefiles(&layers) } else { Vec::new() }),
        (&TRIALS, from.trials.iter().map(KeptTrial::row).collect()),
    ];
    // Tables of the model and of catchments are there even where they are empty, so that keys lead somewhere.
    let always =
        [CATCHMENTS.name, SUBBASINS.name, POUR_POINTS.name, FLOWPATHS.name, NEXUSES.name, PROVENANCE.name];
    let mut written: Vec<&Table> = Vec::new();
    for (table, rows) in tables {
        if rows.is_empty() && !always.contains(&table.name) {
            continue;
        }
        let path = writing.file(&format!("{}.csv", table.name))?;
        std::fs::write(path, table.csv(rows)?)?;
        written.push(table);
    }
    let described =
        datapackage(short, &from.facts.name, &written, &|table| format!("{short}_{}.csv", table.name));
    std::fs::write(dir.join("datapackage.json"), serde_json::to_vec_pretty(&described)?)?;
    for (layer, document) in styles::documents(&from.facts.settings.style, highest_order(&from.land.network))?
    {
        let path = writing.file(&format!("{layer}.sld"))?;
        std::fs::write(path, document)?;
    }
    if let Some(model) = &from.land.model {
        let path = writing.file("schematic.svg")?;
        std::fs::write(path, schematic(&model.scheme, &model.nexuses))?;
    }
    writing.all_written()
}
