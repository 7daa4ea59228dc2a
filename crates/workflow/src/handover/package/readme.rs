//! The README of a package: CRS, units, methods and settings.

use bothros_core::Frame;
use bothros_core::catchments::SnapTo;
use bothros_core::conditioning::StepKind;
use bothros_core::network::{Agreement, Begins};
use bothros_core::routing::Method;
use bothros_formats::Crs;
use bothros_products::FALLING;

use super::Ingredients;
use crate::catchments::pour_points::snaps_to_told;
use crate::{Facts, begins_told};

/// What conditioning did, step by step.
pub(crate) fn conditioning_lines(facts: &Facts, volume: impl Fn(f64) -> String) -> Vec<String> {
    let Some(done) = facts.routing.as_ref().and_then(|r| r.conditioned.as_ref()) else { return Vec::new() };
    let mut out = Vec::new();
    for step in &done.steps {
        let what = match step.kind {
            StepKind::Voids => "Voids filled from their rim",
            StepKind::Rebuild => {
                "Ground rebuilt inside areas (least curvature under tension; Smith and Wessel 1990)"
            }
            StepKind::Lakes => "Lakes made level",
            StepKind::Burn => "Mapped streams burned into the routing surface",
            StepKind::Walls => "Walls raised on the routing surface",
            StepKind::BreachLines => "Ground lowered along breach lines",
            StepKind::Breach => "Sinks breached (Lindsay and Dhun 2015)",
            StepKind::Fill => {
                "Sinks filled to their spill level (basins and passes; Cordonnier, Bovy and Braun 2019; Barnes 2016)"
            }
        };
        out.push(format!("{what}: cut {}, fill {}.", volume(step.moved.cut_m3), volume(step.moved.fill_m3)));
    }
    if done.open > 0 {
        out.push(format!("{} sinks stay open; what drains to them goes no further.", done.open));
    }
    out
}

/// The edge of a cell, in words.
pub(super) fn cell_size(frame: &Frame, crs: &Crs) -> String {
    let unit = match crs.unit.as_str() {
        "metre" | "meter" => "m",
        other => other,
    };
    format!("{} {unit}", frame.cell_size)
}

/// What a receiver finds that derives the network again, in words.
pub(super) fn derived(again: &Agreement) -> String {
    // Rounded down: 100 % is said of all cells alone.
    let share = (again.share() * 1000.0).floor() / 10.0;
    match (again.found == again.delivered, again.extra) {
        (true, 0) => "the network comes out the same to the cell".into(),
        (_, extra) => format!(
            "{} of {} stream cells come out again, and {extra} others ({share:.1} % of the cells of either agree)",
            again.found, again.delivered
        ),
    }
}

pub(super) fn readme(from: &Ingredients, again: &Agreement, files: &[String]) -> String {
    let frame = &from.land.grids.frame;
    let facts = &from.facts;
    let threshold = from.threshold;
    let source = facts.source.as_ref();
    let mut out = format!("{}\n{}\n\n", facts.name, "=".repeat(facts.name.chars().count()));
    out += "Conditioned DEM, flow directions, flow accumulation, stream network and catchments.\n\n";
    if let Some(name) = &from.land.alone {
        out += &format!(
            "The catchment of {name} alone: rasters are cut to it, and numbers of reaches, catchments and sub-basins are those of \
             this package.\n\n"
        );
    }
    if from.stale {
        out += "OUT OF DATE: choices, input layers or decisions were changed after flow was routed. What is in this package was \
            computed before; bring the study up to date and write it again.\n\n";
    }
    out += &format!(
        "CRS: {}. GeoJSON files are in WGS 84 longitude and latitude (RFC 7946).\n",
        from.crs.label()
    );
    if let Some(crs) = &facts.settings.handover.crs {
        out += &format!("Layers of the GeoPackage and Shapefiles are in {}.\n", crs.label());
    }
    out += &format!("Grid: {} x {} cells of {}.\n", frame.cols, frame.rows, cell_size(frame, &from.crs));
    out += "Units: elevations and lengths in metres, areas in km2, slope in m/m.\n\nMethods and settings\n--------------------\n";
    if let Some(source) = source {
        out +=
            &format!("DEM: {}, elevations in {}.\n", source.names().join(", "), source.vertical_unit.code());
    }
    let mut datums: Vec<&str> =
        source.iter().flat_map(|s| s.datums()).map(|d| d.unwrap_or("not stated")).collect();
    datums.dedup();
    if !datums.is_empty() {
        out += &format!("Vertical datum: {}.\n", datums.join(", "));
    }
    for done in facts.terrain.iter().flat_map(|t| &t.done) {
        out += &format!("DEM {done}.\n");
    }
    for line in conditioning_lines(facts, |m3| format!("{m3:.0} m3")) {
        out += &format!("{line}\n");
    }
    out += "Flow directions: D8 (O'Callaghan and Mark 1984), flats after Garbrecht and Martz 1997.\n\
        Flow accumulation counts the cells upstream, the cell itself not included.\n";
    out += match facts.routing.as_ref().map_or(Method::D8, |r| r.method) {
        Method::D8 => "",
        Method::DInfinity => {
            "It is that of D-infinity (Tarboton 1997), rounded down and carried down along D8, which joins the streams. Each \
             stream has one thread: it begins where flow gathers most across its way.\n"
        }
        Method::Mfd => {
            "It is that of MFD (Freeman 1991), rounded down and carried down along D8, which joins the streams. Each \
             stream has one thread: it begins where flow gathers most across its way. Flow itself spreads: do not base work on banks or riparian land on them.\n"
        }
    };
    let begins = facts.settings.beginning.begins;
    let by = match begins {
        Begins::Area => "contributing area".to_owned(),
        Begins::Surveyed => "surveyed heads, and there contributing area,".to_owned(),
        other => begins_told(other),
    };
    out += &format!(
        "Streams begin where {by} reaches {:.6} km2 ({} cells). Orders: Strahler, Shreve.\n",
        threshold.as_area(frame).as_km2(),
        threshold.as_cells()
    );
    if begins != Begins::Area {
        out += "A model that derives the network again from contributing area alone gets another: what is said below tells by how much.\n";
    }
    out += &format!(
        "For models that derive the network again: a stream cell has at least {} cells, the cell itself counted, that drain through it. \
        Flow accumulation here does not count the cell itself: at least {}. The ground in *_{}.tif is raised by as little as makes each cell \
        fall along its flow direction. When it is filled plainly, routed by D8 and cut at that threshold, {}.\n",
        threshold.as_cells(),
        threshold.as_cells() - 1,
        FALLING.name,
        derived(again)
    );
    for edit in &facts.settings.edits {
        out += &format!("Changed by hand: {}: {}.\n", edit.told(), edit.reason);
    }
    out += &match &from.chosen {
        Some((trial, why)) => {
            format!("Chosen: {}. Justification:\n  {}\n", trial.trial.name, why.replace('\n', "\n  "))
        }
        None => "The threshold was not justified in the study.\n".to_owned(),
    };
    for (point, _) in &from.land.points {
        let to = SnapTo::try_from(point.snap_to.clone()).map_or(String::new(), snaps_to_told);
        out += &format!("Pour point {} snapped within {} m to {to}.\n", point.name, point.snap_m);
    }
    let how = &facts.settings.concentration;
    if let (Some(formula), false) = (how.chosen(), from.land.points.is_empty()) {
        out += &format!(
            "Time of concentration: {} is used, because: {}. The others stand beside it in measures.csv.\n",
            formula.title(),
            how.reason
        );
    }
    if let Some(model) = &from.land.model {
        let scheme = &model.scheme;
        out += &format!(
            "Model scheme after OGC HY_Features: {} sub-basins drain to {} nexuses, which {} flowpaths connect; {} flowpaths shorter than \
             {} m are not routed, and their nexuses are one. Connectivity is listed in the order of computation.\n",
            scheme.subbasins.len(),
            scheme.nexuses.len(),
            scheme.flowpaths.len(),
            scheme.merged,
            facts.settings.handover.model.shortest_m
        );
        for issue in &model.issues {
            out += &format!("Warning: {}.\n", issue.text);
        }
    }
    if from.steps.is_some() {
        let short = facts.short_name();
        out += &format!(
            "{short}_recipe.toml tells the steps from the prepared DEM to this package as a recipe, which runs from the unpacked package alone; \
             what it cannot tell stands at its head.\n"
        );
    }
    out += "The .sld files (Styled Layer Descriptor, OGC 02-070) draw the layers as the study's map does; catchments, which \
        have colours of their own there, in one.\n\
        A reach's catchment_id is that of the innermost catchment that holds its upper end.\n\
        Lengths follow the cell centres; perimeters follow the edges of the cells.\n\nFiles\n-----\n";
    for file in files {
        out += &format!("{file}\n");
    }
    out += "\nLog\n---\n";
    for entry in from.log.iter().rev() {
        out += &format!("{}  {}: {}\n", entry.at.format("%Y-%m-%d %H:%M:%S UTC"), entry.stage, entry.text);
    }
    out
}
