//! Writing a study as a recipe: what was chosen, with the inputs that it needs beside it.

use std::path::{Path, PathBuf};

use bothros_core::catchments::{Division, SnapTo};
use bothros_core::conditioning::{Burn, ClosedBasin, Conditioning, Line, Polygons, Rebuild, TreatSinks};
use bothros_core::formula::Formula;
use bothros_core::routing::Method;
use bothros_core::{Frame, Threshold};
use bothros_formats::{Geometry, Layer, Shape};
use bothros_products::named::STREAMS;
use bothros_recipe::{
    BurnMethod, BurnSettings, Catchments, CurveNumber, Derived, EditSettings, Handover, HandoverFormat,
    Network, Paths, RebuildSettings, Recipe, ReportSettings, Routing, RoutingMethod, SheetSettings, Sinks,
    SnapChoice, SubbasinName, Terrain, ThresholdChoice, ValueRaster, definition,
};
use bothros_store::{FileRole, PourPoint, Store};

use super::beginning;
use super::inputs::{Inputs, Placed};
use crate::conditioning::choices::conditioning_of;
use crate::{CatchmentFacts, Error, Facts, ModelChoice, Result};

/// A raster that a recipe needs, as it was given.
pub(crate) struct Given {
    /// what its name ends in, beside the recipe
    pub suffix: String,
    /// its number in the store
    pub file: i64,
}

/// What of a study a recipe is written from.
pub(crate) struct Steps {
    conditioning: Conditioning,
    /// rasters of the analyst: weights, and those that tell values
    pub rasters: Vec<Given>,
}

impl Steps {
    /// Reads what a recipe is written from.
    ///
    /// # Errors
    /// Those of the database; [`Error::Refused`] where a raster is no longer kept.
    pub async fn of(store: &Store, facts: &Facts) -> Result<Self> {
        let mut rasters = Vec::new();
        let named = facts.settings.weights.iter().map(|w| (FileRole::Weights, &w.file, &w.sha256));
        let of_files = facts.settings.rasters.iter().filter(|r| r.formula.is_none());
        let values = of_files.map(|r| (FileRole::Values, &r.file, &r.sha256));
        for (number, (role, name, sha256)) in named.chain(values).enumerate() {
            let file = store.file_by_sum(facts.study, role, sha256).await?.ok_or_else(|| {
                Error::Refused(format!("{name} is no longer kept: give it again, or remove it"))
            })?;
            let extension = Path::new(name).extension().and_then(|e| e.to_str()).unwrap_or("tif");
            let suffix = format!("input_{}.{}", number + 1, extension.to_ascii_lowercase());
            rasters.push(Given { suffix, file: file.id });
        }
        Ok(Self { conditioning: conditioning_of(store, facts).await?, rasters })
    }
}

/// A recipe, the layers that it reads, and what it does not tell.
pub(crate) struct Written {
    /// TOML
    pub text: String,
    /// for the GeoPackage `inputs`
    pub layers: Vec<Layer>,
    /// what of the study it does not tell
    pub untold: Vec<String>,
}

/// File with the layers that a recipe reads.
pub(crate) const INPUTS: &str = "inputs.gpkg";

/// Where a recipe begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Begins {
    /// with the DEM as it was prepared, which lies in the package
    Prepared,
    /// with the files that the DEM was made of
    Files,
}

/// What a recipe is written for, beside the study.
pub(crate) struct Wanted<'a> {
    pub begins: Begins,
    /// what names of files begin with
    pub short: &'a str,
    pub threshold: Threshold,
    pub frame: &'a Frame,
    /// how many storages the model scheme has
    pub storages: usize,
    /// what is chosen was not computed yet
    pub stale: bool,
    /// sheets and the report, as they are laid out beside it
    pub sheets: &'a [SheetSettings],
    pub report: Option<&'a ReportSettings>,
}

/// Writes the recipe of a study.
///
/// # Errors
/// [`Error::Refused`] where it cannot be written as TOML; those of the CRS of a clip.
pub(crate) fn written(
    steps: &Steps,
    facts: &Facts,
    points: &[(PourPoint, CatchmentFacts)],
    wanted: &Wanted<'_>,
) -> Result<Written> {
    let (short, frame) = (wanted.short, wanted.frame);
    let mut inputs = Inputs::new(short);
    let mut add = |name, shape, features: Vec<Placed>| inputs.add(name, shape, features);
    let mut untold = Vec::new();
    let how = &steps.conditioning;
    let lines = |lines: &[Vec<[f64; 2]>]| {
        lines.iter().map(|l| Placed::of(Geometry::Line(l.clone()))).collect::<Vec<_>>()
    };
    let areas = |all: &mut dyn Iterator<Item = &Polygons>| {
        all.map(|polygons| Placed::of(Geometry::Polygons(polygons.clone()))).collect::<Vec<_>>()
    };
    let at = |b: &ClosedBasin| match b {
        ClosedBasin::At(place) => Some(Placed::of(Geometry::Point(*place))),
        ClosedBasin::Within(_) => None,
    };
    let within = |b: &'_ ClosedBasin| match b {
        ClosedBasin::At(_) => None,
        ClosedBasin::Within(polygons) => Some(polygons.clone()),
    };
    let basin_points: Vec<_> = how.closed_basins.iter().filter_map(at).collect();
    let basin_areas: Vec<Polygons> = how.closed_basins.iter().filter_map(within).collect();
    let basins = [
        add("closed_basins", Shape::Point, basin_points),
        add("closed_basin_areas", Shape::Polygons, areas(&mut basin_areas.iter())),
    ];
    let rebuild = rebuilt(&how.rebuild, &mut add);
    let conditioning = bothros_recipe::Conditioning {
        breach_lines: add("breach_lines", Shape::Line, lines(&how.breach_lines)),
        walls: add("walls", Shape::Line, lines(&how.walls)),
        lakes: add("lakes", Shape::Polygons, areas(&mut how.lakes.iter())),
        closed_basins: Paths(basins.into_iter().flatten().collect()),
        rebuild,
        burn: how.burn.as_ref().and_then(|(streams, burn)| {
            Some(burned(add("mapped_streams", Shape::Line, lines(streams))?, burn))
        }),
        ..treated(how)
    };

    // Where all points snap alike they are given as they were; otherwise where they lie now.
    let alike = points.windows(2).all(|two| {
        let [(a, _), (b, _)] = two else { return true };
        (a.snap_m, &a.snap_to) == (b.snap_m, &b.snap_to)
    });
    // A recipe knows two of the ways.
    let to = |(point, _): &(PourPoint, CatchmentFacts)| SnapTo::try_from(point.snap_to.clone()).ok();
    let alike = alike && !points.first().is_some_and(|p| matches!(to(p), Some(SnapTo::KnownArea(_))));
    let mut own: Vec<&(PourPoint, CatchmentFacts)> = Vec::new();
    for given in points {
        match own.iter().find(|(_, found)| found.cell == given.1.cell) {
            Some((first, _)) => untold
                .push(format!("the pour point {}, which lies in one cell with {}", given.0.name, first.name)),
            None => own.push(given),
        }
    }
    if !alike {
        untold.push(
            "how far pour points moved: they snapped by different rules or to known areas, and are given where they lie".into(),
        );
    }
    let place = |(point, found): &(PourPoint, CatchmentFacts)| {
        let (x, y) = if alike { (point.x, point.y) } else { frame.centre(found.cell) };
        Geometry::Point([x, y])
    };
    let named = |given: &&(PourPoint, CatchmentFacts)| Placed {
        name: Some(given.0.name.clone()),
        ..Placed::of(place(given))
    };
    let pour_points = own.iter().map(named).collect();
    let snap = points.first().filter(|_| alike).map(|(point, _)| point);
    let settings = &facts.settings;
    let heads = settings.beginning.heads.iter().map(|&at| Placed::of(Geometry::Point(at))).collect();
    let heads = add("channel_heads", Shape::Point, heads);
    let rasters = settings.weights.iter().count();
    let file = |at: usize| PathBuf::from(format!("{short}_{}", steps.rasters[at].suffix));
    let derived = derived(facts, &mut untold);
    let has = |r: &&crate::ValueRaster| r.formula.is_none() || derived.iter().any(|d| d.name == r.name);
    let mut of_files = rasters..;
    let value_rasters = settings.rasters.iter().filter(has).map(|r| ValueRaster {
        path: r.formula.is_none().then(|| of_files.next().map(file)).flatten(),
        derived: r.formula.as_ref().map(|_| r.name.clone()),
        name: r.name.clone(),
        unit: r.unit.clone(),
        holds: r.holds,
    });
    let numbers = &settings.concentration;
    let curve_number = match &numbers.curve_number_raster {
        Some(name) if settings.rasters.iter().any(|r| r.name == *name && r.lookup.is_empty() && has(&r)) => {
            Some(CurveNumber::Raster(name.clone()))
        }
        Some(name) => {
            untold.push(format!("curve numbers that a table gives the classes of {name}"));
            None
        }
        None => numbers.curve_number.map(CurveNumber::One),
    };
    let catchments = Catchments {
        pour_points: add("pour_points", Shape::Point, pour_points),
        snap_m: snap.map_or(0.0, |p| p.snap_m),
        snap_to: match snap.map(|p| p.snap_to.as_str()) {
            Some("nearest_stream") => SnapChoice::NearestStream,
            _ => SnapChoice::Largest,
        },
        lines: None,
        sites: None,
        min_inflow_km2: None,
        basins: false,
        outline: settings.subbasins.outline,
        boundary: None,
        curve_number,
        rasters: value_rasters.collect(),
        subbasins: Some(match settings.subbasins.division {
            Division::Basins => Division::Reaches,
            other => other,
        }),
        split: settings.subbasins.split.clone(),
        merged: settings.subbasins.merged.clone(),
        names: settings
            .subbasins
            .names
            .iter()
            .map(|(at, name)| SubbasinName { at: *at, name: name.clone() })
            .collect(),
    };
    let handover = Handover {
        crs: settings.handover.crs.as_ref().map(definition),
        formats: [
            (true, HandoverFormat::Geojson),
            (settings.handover.shapefiles, HandoverFormat::Shapefile),
            (settings.handover.netcdf, HandoverFormat::Netcdf),
        ]
        .into_iter()
        .filter_map(|(wanted, format)| wanted.then_some(format))
        .collect(),
    };
    let terrain = Terrain {
        fill_voids: how.fill_voids,
        ..match wanted.begins {
            Begins::Prepared => beginning::prepared(short),
            Begins::Files => beginning::of_files(facts, short, &mut inputs, &mut untold)?,
        }
    };
    let recipe = Recipe {
        version: 1,
        max_memory: None,
        terrain,
        conditioning: Some(conditioning),
        routing: Some(Routing {
            method: match settings.conditioning.routing {
                Method::D8 => RoutingMethod::D8,
                Method::DInfinity => RoutingMethod::Dinf,
                Method::Mfd => RoutingMethod::Mfd,
            },
            exponent: None,
            weights: settings.weights.as_ref().map(|_| file(0)),
            flat_slope: 0.0,
            shares: settings.conditioning.routing == Method::Mfd && settings.handover.shares,
        }),
        network: Some(Network {
            threshold: ThresholdChoice { area_km2: None, cells: Some(wanted.threshold.as_cells()) },
            begins: settings.beginning.begins,
            heads_within_m: heads.as_ref().map(|_| settings.beginning.within_m),
            heads,
            edits: settings.edits.iter().map(|e| EditSettings::of(&e.edit, &e.reason)).collect(),
        }),
        catchments: Some(catchments),
        derived,
        handover: Some(handover),
        report: wanted.report.cloned(),
        sheets: wanted.sheets.to_vec(),
        folder: PathBuf::new(),
        name: None,
    };
    match wanted.storages {
        0 => {}
        1 => untold.push("1 dam with a reservoir, which is a storage of the model scheme".into()),
        n => untold.push(format!("{n} dams with reservoirs, which are storages of the model scheme")),
    }
    by_hand(facts, &mut untold);
    if wanted.report.is_some() {
        untold.push(
            "barriers, evidence, trials and shortfalls of the report, which only the study can tell".into(),
        );
    }
    let toml = recipe.to_toml().map_err(|e| Error::Refused(format!("the recipe cannot be written: {e}")))?;
    Ok(Written { text: told(facts, wanted, &untold) + &toml, layers: inputs.layers, untold })
}

/// Ground made anew inside areas: all areas take the same points, contour lines and choices.
fn rebuilt(
    all: &[Rebuild],
    add: &mut impl FnMut(&'static str, Shape, Vec<Placed>) -> Option<PathBuf>,
) -> Option<RebuildSettings> {
    let first = all.first()?;
    let area = |of: &Rebuild| Placed::of(Geometry::Polygons(of.area.clone()));
    let point = |&[x, y, z]: &[f64; 3]| Placed { elevation: Some(z), ..Placed::of(Geometry::Point([x, y])) };
    let contour =
        |(z, line): &(f64, Line)| Placed { elevation: Some(*z), ..Placed::of(Geometry::Line(line.clone())) };
    Some(RebuildSettings {
        areas: add("rebuilt_areas", Shape::Polygons, all.iter().map(area).collect())?,
        points: add("elevation_points", Shape::Point, first.points.iter().map(point).collect()),
        contours: add("contour_lines", Shape::Line, first.contours.iter().map(contour).collect()),
        own: first.own,
        tension: Some(first.tension),
        blend_m: Some(first.blend_m),
    })
}

/// What was done with sinks; nothing of layers.
fn treated(how: &Conditioning) -> bothros_recipe::Conditioning {
    let breaches = matches!(how.sinks, TreatSinks::Breach | TreatSinks::BreachThenFill);
    let fills = matches!(how.sinks, TreatSinks::Fill | TreatSinks::BreachThenFill);
    bothros_recipe::Conditioning {
        sinks: match how.sinks {
            TreatSinks::Fill => Sinks::Fill,
            TreatSinks::Breach => Sinks::Breach,
            TreatSinks::BreachThenFill => Sinks::BreachThenFill,
            TreatSinks::Keep => Sinks::Keep,
        },
        max_fill_depth_m: how.max_fill_depth_m.filter(|_| fills),
        max_breach_length_m: how.breach_limits.length_m.filter(|_| breaches),
        max_breach_depth_m: how.breach_limits.depth_m.filter(|_| breaches),
        ..Default::default()
    }
}

fn burned(streams: PathBuf, burn: &Burn) -> BurnSettings {
    let (method, depth_m, buffer_m, buffer_depth_m) = match *burn {
        Burn::Trench { depth_m } => (BurnMethod::Trench, Some(depth_m), None, None),
        Burn::Graded { depth_m, buffer_m, buffer_depth_m } => {
            (BurnMethod::Graded, Some(depth_m), Some(buffer_m), Some(buffer_depth_m))
        }
        Burn::Normalised => (BurnMethod::Normalised, None, None, None),
        Burn::Carve => (BurnMethod::Carve, None, None, None),
    };
    BurnSettings { streams, method, depth_m, buffer_m, buffer_depth_m }
}

/// The formulas of a study, each after those that it names; what a recipe cannot tell is added to `untold`.
fn derived(facts: &Facts, untold: &mut Vec<String>) -> Vec<Derived> {
    let mut open: Vec<(&str, &str)> = Vec::new();
    for raster in &facts.settings.rasters {
        open.extend(raster.formula.as_deref().map(|formula| (raster.name.as_str(), formula)));
    }
    let mut told: Vec<Derived> = Vec::new();
    loop {
        let waits = |name: &&str, open: &[(&str, &str)]| open.iter().any(|(other, _)| other == name);
        let next = open.iter().position(|(_, formula)| {
            Formula::read(formula).is_ok_and(|read| !read.names().iter().any(|name| waits(name, &open)))
        });
        let Some(next) = next else { break };
        let (name, formula) = open.remove(next);
        // Of layers a recipe knows the lines of its network.
        let layers = Formula::read(formula).is_ok_and(|read| read.layers().iter().all(|l| *l == STREAMS));
        let rests = |name: &str| told.iter().any(|d| d.name == name);
        let known = Formula::read(formula).is_ok_and(|read| {
            read.names().iter().all(|n| {
                rests(n) || !facts.settings.rasters.iter().any(|r| r.formula.is_some() && r.name == *n)
            })
        });
        match layers && known {
            true => told.push(Derived { name: name.to_owned(), formula: formula.to_owned() }),
            false => {
                untold.push(format!("the derived raster {name}, whose formula names a layer ({formula})"))
            }
        }
    }
    told
}

/// Adds what was chosen, or typed, and has no key in a recipe.
fn by_hand(facts: &Facts, untold: &mut Vec<String>) {
    let settings = &facts.settings;
    let mut count = |n: usize, one: &str, many: &str| match n {
        0 => {}
        1 => untold.push(format!("1 {one}")),
        n => untold.push(format!("{n} {many}")),
    };
    count(
        settings.handover.typed.len(),
        "value typed in a table of the model",
        "values typed in tables of the model",
    );
    if let Some(formula) = settings.concentration.chosen() {
        untold.push(format!("the choice of a time of concentration ({})", formula.title()));
    }
    if settings.handover.model != ModelChoice::default() {
        untold.push("parameters of the model scheme (its tables hold them)".into());
    }
}

/// The head of the recipe: what it is, and what it leaves out.
fn told(facts: &Facts, wanted: &Wanted<'_>, untold: &[String]) -> String {
    let (name, short) = (one_line(&facts.name), wanted.short);
    let mut out = match wanted.begins {
        Begins::Prepared => format!(
            "# The steps of the study “{name}”, from the DEM as it was prepared to the package.\n\
             # Unpack the package and run:  ./bothros run {short}_recipe.toml --out DIR\n"
        ),
        Begins::Files => format!(
            "# The steps of the study “{name}”, from the files of its DEM to the package.\n\
             # Beside its files, run:  ./bothros run {short}_recipe.toml --out DIR\n"
        ),
    };
    if wanted.stale {
        out += "# OUT OF DATE: this is what is chosen now; what was computed last was chosen before.\n";
    }
    if !untold.is_empty() {
        out += "# A recipe does not tell:\n";
        for what in untold {
            out += &format!("# - {}\n", one_line(what));
        }
    }
    out + "\n"
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
