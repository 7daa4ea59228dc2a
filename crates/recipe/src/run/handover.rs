//! The step `[handover]`: the package, from the same definitions as that of the application.

use std::io::Write;
use std::path::Path;

use bothros_core::catchments::{Formula, Measures, SubBasins, at_line};
use bothros_core::network::{Network, derived_again};
use bothros_core::routing::with_least_fall;
use bothros_core::scheme::{flaws, from_subbasins, sections};
use bothros_core::{Frame, Grid, Threshold};
use bothros_formats::{Crs, Geometry, Layer, Transform, VectorFormat, Wanted, write_layers};
use bothros_products::{
    AREA_DISTANCE, CATCHMENT_IDS, CATCHMENTS, CONNECTIVITY, CROSS_SECTIONS, Chosen, Elements, FALLING,
    FLOW_ACCUMULATION, FLOW_DIRECTION, FLOWPATHS, GROUND, HYPSOMETRY, Model, ModelChoice, NEXUSES,
    POUR_POINTS, Parameters, Placed, Reservoir, Row, STREAM_ORDER, SUBBASIN_PARAMETERS, SUBBASINS, Sourced,
    Table, Typed, datapackage, schematic, section_rows,
};

use super::{Routed, Run};
use crate::catchments::CurveNumber;
use crate::{Error, Handover, HandoverFormat, Result, inputs};

/// What a package is made of beside the network.
pub(super) struct Given {
    pub subbasins: SubBasins,
    pub measures: Vec<Measures>,
    pub curve_numbers: Vec<Option<f64>>,
    /// impervious shares that a raster gives
    pub impervious: Vec<Sourced>,
    /// tables of catchments and sub-basins
    pub tables: Vec<(&'static Table, Vec<Row>)>,
    pub layers: Vec<Layer>,
}

/// The land that is handed over.
pub(super) struct HandedOver<'a> {
    pub settings: &'a Handover,
    pub routed: &'a Routed,
    pub ground: &'a Grid<f32>,
    pub frame: &'a Frame,
    pub crs: &'a Crs,
    pub threshold: Threshold,
    pub network: &'a Network,
    /// Strahler orders of stream cells
    pub orders: &'a Grid<u8>,
    /// the innermost catchment of each cell
    pub ids: &'a Grid<u32>,
    /// the DEM as prepared, where cross-sections are wanted
    pub prepared: Option<&'a Grid<f32>>,
    pub points: &'a [Placed],
}

fn written(path: &Path) -> impl Fn(bothros_formats::Error) -> Error + '_ {
    |e| Error::write(path, e)
}

impl Run<'_> {
    /// Dams that a lake reaches, in the order of their file.
    fn reservoirs(&self, of: &HandedOver<'_>, notes: &mut Vec<String>) -> Result<Vec<Reservoir>> {
        let (Some(dams), Some(lakes)) = (&of.settings.dams, &of.settings.lakes) else {
            return Ok(Vec::new());
        };
        let dams = inputs::features(self.recipe, "handover.dams", dams, Wanted::Lines, of.crs, notes)?;
        let lakes = inputs::features(self.recipe, "handover.lakes", lakes, Wanted::Polygons, of.crs, notes)?;
        let mut found = Vec::new();
        for (feature, number) in dams.into_iter().zip(1u32..) {
            let Geometry::Line(line) = feature.shape else { continue };
            let at = at_line(&line, &of.routed.directions, &of.routed.accumulation, of.frame)?;
            let name = feature.name.unwrap_or_else(|| format!("Dam {number}"));
            found.extend(at.map(|at| (name, at.cell)));
        }
        Ok(Reservoir::of(&found, &inputs::polygons_of(lakes), of.frame))
    }

    /// Writes handover.zip. Rasters that the run has written are packed as they are.
    pub(super) fn handover(
        &mut self,
        of: &HandedOver<'_>,
        given: Given,
        network_layers: &[Layer],
        notes: &mut Vec<String>,
    ) -> Result<()> {
        let (frame, crs, directions) = (of.frame, of.crs, &of.routed.directions);
        let own = ModelChoice::default();
        let choice = of.settings.model.as_ref().unwrap_or(&own);
        let reservoirs = self.reservoirs(of, notes)?;
        let storages: Vec<_> = reservoirs.iter().map(Reservoir::storage).collect();
        let subbasins = &given.subbasins;
        let scheme = from_subbasins(subbasins, directions, of.ground, frame, &storages, choice.shortest_m)?;
        if let Some(flaw) = flaws(&scheme).into_iter().find(bothros_core::scheme::Flaw::is_error) {
            return Err(Error::data("handover", format!("the model scheme has an error: {flaw}")));
        }
        let settings = self.recipe.catchments.as_ref();
        let looks_up = |name: &String| {
            settings.is_some_and(|c| c.rasters.iter().any(|r| r.name == *name && !r.lookup.is_empty()))
        };
        let number_source = match settings.and_then(|c| c.curve_number.as_ref()) {
            Some(CurveNumber::Raster(name)) if looks_up(name) => {
                format!("mean of what the classes of raster {name} stand for")
            }
            Some(CurveNumber::Raster(name)) => format!("mean of raster {name}"),
            _ => "typed".to_owned(),
        };
        let typed = Typed::on(&of.settings.typed, frame);
        let chosen = Chosen {
            scheme: &scheme,
            measures: &given.measures,
            outlets: &subbasins.outlets,
            curve_numbers: &given.curve_numbers,
            number_source: &number_source,
            impervious: &given.impervious,
            formula: settings.and_then(|c| Formula::from_key(c.time_of_concentration.as_deref()?)),
            model: choice,
            typed: &typed,
            reservoirs: &reservoirs,
            cols: frame.cols,
        };
        let Parameters { tc_h, curve_numbers, impervious, channels, pools } = chosen.parameters();
        let elements = Elements::of(&scheme, &subbasins.outlets, frame.cols);
        if let Some((parameter, _, count)) = typed.lost(&elements) {
            let title = parameter.column()?.title;
            notes.push(format!(
                "handover.typed: {count} values are for elements that are not there; the first is {title}"
            ));
        }
        let names: Vec<Option<String>> = of.points.iter().map(|p| p.name.clone()).collect();
        let model = Model {
            scheme: &scheme,
            measures: &given.measures,
            tc_h: &tc_h,
            curve_numbers: &curve_numbers,
            impervious: &impervious,
            channels: &channels,
            points: &names,
            storages: &pools,
            ground: of.ground,
            frame,
        };
        let (flowpaths, nexuses) = (model.flowpaths()?, model.nexuses()?);
        let pieces = given.subbasins.pieces(directions);
        let rows =
            |layer: &Layer| -> Vec<Row> { layer.features.iter().map(|(_, row)| row.clone()).collect() };
        let mut tables: Vec<(&'static Table, Vec<Row>)> = given.tables;
        for table in [&CATCHMENTS, &SUBBASINS, &POUR_POINTS] {
            if let Some(layer) = given.layers.iter().find(|l| l.name == table.name) {
                tables.push((table, rows(layer)));
            }
        }
        tables.extend([
            (&SUBBASIN_PARAMETERS, model.subbasin_rows()),
            (&FLOWPATHS, rows(&flowpaths)),
            (&NEXUSES, rows(&nexuses)),
            (&CONNECTIVITY, model.connectivity_rows()),
            (&HYPSOMETRY, model.hypsometry_rows(&pieces)),
            (&AREA_DISTANCE, model.area_distance_rows(&given.subbasins.found.ids, directions)?),
        ]);
        if let (Some(dem), Some(spacing)) = (of.prepared, choice.section_spacing_m) {
            let of = |f| sections(f, dem, directions, frame, spacing, choice.section_half_width_m);
            let rows = scheme.flowpaths.iter().flat_map(|f| section_rows(&of(f))).collect();
            tables.push((&CROSS_SECTIONS, rows));
        }
        let falling = self.step("deriving the network again", 0.985, |part| {
            Ok(with_least_fall(of.ground, directions, 0.0, frame, part)?)
        })?;
        let again = derived_again(&falling, of.network, frame, of.threshold, &bothros_core::Silent)?;

        let dir = tempfile::tempdir_in(self.dir).map_err(|e| Error::write(self.dir, e))?;
        let inside = dir.path();
        let mut files: Vec<String> = Vec::new();
        let mut name = |name: &str| {
            files.push(name.to_owned());
            inside.join(name)
        };
        let path = name(&format!("{}.tif", FALLING.name));
        FALLING.write(&path, &falling, frame, crs).map_err(written(&path))?;
        if of.settings.formats.contains(&HandoverFormat::Netcdf) {
            macro_rules! as_netcdf {
                ($($product:expr => $values:expr),*) => { $({
                    let path = name(&format!("{}.nc", $product.name));
                    $product.write_netcdf(&path, $values, frame, crs).map_err(written(&path))?;
                })* };
            }
            as_netcdf!(
                GROUND => of.ground, FALLING => &falling, FLOW_DIRECTION => directions,
                FLOW_ACCUMULATION => &of.routed.accumulation, STREAM_ORDER => of.orders, CATCHMENT_IDS => of.ids
            );
        }
        drop(falling);
        let mut layers: Vec<Layer> = network_layers.to_vec();
        layers.extend(given.layers);
        layers.extend([flowpaths, nexuses.clone()]);
        let wanted = match &of.settings.crs {
            Some(text) => Some(Crs::parse(text).map_err(|e| Error::key("handover.crs", e.to_string()))?),
            None => None,
        };
        let drawn = match &wanted {
            Some(wanted) => {
                let to =
                    Transform::new(crs, wanted).map_err(|e| Error::key("handover.crs", e.to_string()))?;
                let all =
                    layers.iter().map(|l| l.converted(&to)).collect::<bothros_formats::Result<Vec<_>>>();
                Some(all.map_err(|e| Error::key("handover.crs", e.to_string()))?)
            }
            None => None,
        };
        let (drawn, drawn_crs) = (drawn.as_ref().unwrap_or(&layers), wanted.as_ref().unwrap_or(crs));
        let path = name("network.gpkg");
        write_layers(&path, VectorFormat::GeoPackage, drawn_crs, drawn).map_err(written(&path))?;
        let formats = &of.settings.formats;
        for (layer, converted) in layers.iter().zip(drawn) {
            if formats.contains(&HandoverFormat::Geojson) {
                let path = name(&format!("{}.geojson", layer.name));
                write_layers(&path, VectorFormat::GeoJson, crs, std::slice::from_ref(layer))
                    .map_err(written(&path))?;
            }
            if formats.contains(&HandoverFormat::Shapefile) {
                let path = inside.join(format!("{}.shp", layer.name));
                write_layers(&path, VectorFormat::Shapefile, drawn_crs, std::slice::from_ref(converted))
                    .map_err(written(&path))?;
                for part in ["shp", "shx", "dbf", "prj", "cpg"] {
                    if path.with_extension(part).exists() {
                        name(&format!("{}.{part}", layer.name));
                    }
                }
            }
        }
        let mut described: Vec<&Table> = Vec::new();
        for (table, rows) in tables {
            let path = name(&format!("{}.csv", table.name));
            std::fs::write(&path, table.csv(rows)?).map_err(|e| Error::write(&path, e))?;
            described.push(table);
        }
        let json = datapackage("handover", "Package of a recipe", &described, &|t| format!("{}.csv", t.name));
        let readme = format!(
            "Package of a recipe\n===================\n\nCRS: {}; layers of network.gpkg: {}.\nMethods and settings\n--------------------\n\
             Streams: contributing area of at least {:.6} km2 ({} cells, the cell itself counted). Flow directions: D8 (O'Callaghan and Mark \
             1984), flats after Garbrecht and Martz 1997. Flow accumulation counts the cells upstream, the cell itself not included.\n\
             {}.tif, filled plainly, routed by D8 and cut at that threshold, gives {} of {} stream cells again, and {} others.\n\nFiles\n-----\n",
            crs.label(),
            drawn_crs.label(),
            of.threshold.as_area(frame).as_km2(),
            of.threshold.as_cells(),
            FALLING.name,
            again.found,
            again.delivered,
            again.extra
        );
        for (file, text) in [
            ("datapackage.json", serde_json::to_string_pretty(&json).map_err(|e| Error::write(inside, e))?),
            ("schematic.svg", schematic(&scheme, &nexuses)),
            ("README.txt", readme),
        ] {
            let path = name(file);
            std::fs::write(&path, text).map_err(|e| Error::write(&path, e))?;
        }
        let target = self.dir.join("handover.zip");
        let dir_of_run = self.dir;
        self.step("packing the handover", 1.0, |_| {
            let broken = |e: std::io::Error| Error::write(&target, e);
            let mut zip = zip::ZipWriter::new(std::fs::File::create(&target).map_err(broken)?);
            let rasters = ["ground", "flow_direction", "flow_accumulation", "streams", "catchments"];
            let rasters = rasters.map(|r| format!("{r}.tif"));
            let own = files.iter().map(|f| (inside.join(f), f));
            for (path, file) in rasters.iter().map(|f| (dir_of_run.join(f), f)).chain(own) {
                // Rasters are compressed already.
                let method = match file.ends_with(".tif") || file.ends_with(".nc") {
                    true => zip::CompressionMethod::Stored,
                    false => zip::CompressionMethod::Deflated,
                };
                let options =
                    zip::write::SimpleFileOptions::default().compression_method(method).large_file(true);
                zip.start_file(file, options).map_err(|e| broken(e.into()))?;
                std::io::copy(&mut std::fs::File::open(&path).map_err(broken)?, &mut zip).map_err(broken)?;
            }
            zip.finish().and_then(|mut file| Ok(file.flush()?)).map_err(|e| broken(e.into()))
        })
    }
}
