//! Writing a study as a recipe: what was chosen, with the inputs that it needs beside it.

use std::path::{Path, PathBuf};

use bothros_core::Threshold;
use bothros_core::catchments::Division;
use bothros_core::conditioning::{Burn, ClosedBasin, Conditioning, Line, Polygons, Rebuild, TreatSinks};
use bothros_core::routing::Method;
use bothros_formats::{Geometry, Layer, Shape as GeometryShape};
use bothros_recipe::{
    BurnMethod, BurnSettings, Catchments, CurveNumber, EditSettings, Handover, HandoverFormat, Network,
    Paths, RebuildSettings, Recipe, ReportSettings, Routing, RoutingMethod, SheetSettings, Sinks,
    SubbasinName, Terrain, ThresholdChoice, ValueRaster, definition,
};
use bothros_store::{FileRole, LayerFeature, LayerRole, PourPoint, Shape, Store};

use super::beginning;
use super::formulas::{self, derived, named_layers};
use super::inputs::{Inputs, Placed};
use super::points::Points;
use crate::catchments::features;
use crate::conditioning::choices::conditioning_of;
use crate::{CatchmentFacts, Error, Facts, ModelChoice, Result, boxed};

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
    /// layers that formulas name, beside the streams
    named: Vec<(LayerRole, Vec<LayerFeature>)>,
    /// dams and lakes, of which the model scheme makes storages
    dams: Vec<(String, Shape)>,
    lakes: Vec<(String, Shape)>,
    /// rasters of the analyst: weights, and those that tell values
    pub rasters: Vec<Given>,
}

impl Steps {
    /// Reads what a recipe is written from.
    ///
    /// # Errors
    /// Those of the database; [`Error::Refused`] where a raster is no longer kept.
    #[boxed]
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
        let placed = |all: Vec<(_, String, Shape)>| all.into_iter().map(|(_, name, shape)| (name, shape));
        Ok(Self {
            conditioning: conditioning_of(store, facts).await?,
            named: named_layers(store, facts).await?,
            dams: placed(features(store, facts.study, LayerRole::Dams, "Dam").await?).collect(),
            lakes: placed(features(store, facts.study, LayerRole::Lakes, "Lake").await?).collect(),
            rasters,
        })
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
    let short = wanted.short;
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
    // What formulas ask of features lies beside them, where they are a layer of the study and nothing else.
    let known = |role: LayerRole, placed: Vec<Placed>| match steps.named.iter().find(|(of, _)| *of == role) {
        Some((_, features)) => formulas::with_fields(placed, features),
        None => placed,
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
        add("closed_basins", GeometryShape::Point, basin_points),
        add("closed_basin_areas", GeometryShape::Polygons, areas(&mut basin_areas.iter())),
    ];
    let rebuild = rebuilt(&how.rebuild, &mut add);
    let conditioning = bothros_recipe::Conditioning {
        breach_lines: add(
            "breach_lines",
            GeometryShape::Line,
            known(LayerRole::BreachLines, lines(&how.breach_lines)),
        ),
        walls: add("walls", GeometryShape::Line, known(LayerRole::Walls, lines(&how.walls))),
        lakes: add("lakes", GeometryShape::Polygons, known(LayerRole::Lakes, areas(&mut how.lakes.iter()))),
        closed_basins: Paths(basins.into_iter().flatten().collect()),
        rebuild,
        burn: how.burn.as_ref().and_then(|(streams, burn)| {
            Some(burned(
                add("mapped_streams", GeometryShape::Line, known(LayerRole::MappedStreams, lines(streams)))?,
                burn,
            ))
        }),
        ..treated(how)
    };

    let Points { placed, snap_m, snap_to, untold: of_points } = Points::of(points);
    untold.extend(of_points);
    let settings = &facts.settings;
    let heads = settings.beginning.heads.iter().map(|&at| Placed::of(Geometry::Point(at))).collect();
    let heads = add("channel_heads", GeometryShape::Point, heads);
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
        lookup: r.lookup.clone(),
    });
    let numbers = &settings.concentration;
    let curve_number = match &numbers.curve_number_raster {
        Some(name) if settings.rasters.iter().any(|r| r.name == *name && has(&r)) => {
            Some(CurveNumber::Raster(name.clone()))
        }
        Some(name) => {
            untold.push(format!("curve numbers of {name}, which a recipe does not have"));
            None
        }
        None => numbers.curve_number.map(CurveNumber::One),
    };
    let catchments = Catchments {
        pour_points: add("pour_points", GeometryShape::Point, placed),
        snap_m,
        snap_to,
        lines: None,
        sites: None,
        min_inflow_km2: None,
        basins: false,
        outline: settings.subbasins.outline,
        boundary: None,
        curve_number,
        time_of_concentration: numbers.chosen().map(|formula| formula.key().to_owned()),
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
        ..storages(steps, &conditioning, &mut add)
    };
    let handover = Handover {
        model: Some(settings.handover.model.clone()).filter(|model| *model != ModelChoice::default()),
        typed: settings.handover.typed.clone(),
        ..handover
    };
    let there = |role: LayerRole| match role {
        LayerRole::BreachLines => conditioning.breach_lines.clone(),
        LayerRole::Walls => conditioning.walls.clone(),
        LayerRole::Lakes => conditioning.lakes.clone(),
        LayerRole::MappedStreams => conditioning.burn.as_ref().map(|b| b.streams.clone()),
        _ => None,
    };
    let layers = steps.named.iter().filter_map(|of| formulas::told(of, there(of.0), &mut inputs)).collect();
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
            weights_meaning: settings.weights.as_ref().map(|w| w.meaning.clone()),
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
        layers,
        derived,
        handover: Some(handover),
        report: wanted.report.cloned(),
        sheets: wanted.sheets.to_vec(),
        folder: PathBuf::new(),
        name: None,
    };
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
    add: &mut impl FnMut(&'static str, GeometryShape, Vec<Placed>) -> Option<PathBuf>,
) -> Option<RebuildSettings> {
    let first = all.first()?;
    let area = |of: &Rebuild| Placed::of(Geometry::Polygons(of.area.clone()));
    let point = |&[x, y, z]: &[f64; 3]| Placed { elevation: Some(z), ..Placed::of(Geometry::Point([x, y])) };
    let contour =
        |(z, line): &(f64, Line)| Placed { elevation: Some(*z), ..Placed::of(Geometry::Line(line.clone())) };
    Some(RebuildSettings {
        areas: add("rebuilt_areas", GeometryShape::Polygons, all.iter().map(area).collect())?,
        points: add("elevation_points", GeometryShape::Point, first.points.iter().map(point).collect()),
        contours: add("contour_lines", GeometryShape::Line, first.contours.iter().map(contour).collect()),
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

/// Dams and the lakes behind them, where there are both; lakes that are made level lie beside the recipe already.
fn storages(
    steps: &Steps,
    conditioning: &bothros_recipe::Conditioning,
    add: &mut impl FnMut(&'static str, GeometryShape, Vec<Placed>) -> Option<PathBuf>,
) -> Handover {
    if steps.dams.is_empty() || steps.lakes.is_empty() {
        return Handover::default();
    }
    let placed = |(name, shape): &(String, Shape)| Placed {
        name: Some(name.clone()),
        ..Placed::of(formulas::geometry(shape))
    };
    let dams = add("dams", GeometryShape::Line, steps.dams.iter().map(placed).collect());
    let lakes =
        || add("lakes_behind_dams", GeometryShape::Polygons, steps.lakes.iter().map(placed).collect());
    Handover { dams, lakes: conditioning.lakes.clone().or_else(lakes), ..Handover::default() }
}

/// Adds what was chosen and has no key in a recipe.
fn by_hand(facts: &Facts, untold: &mut Vec<String>) {
    let choice = &facts.settings.handover;
    if choice.indices {
        untold.push("that indices of the land are handed over as rasters".into());
    }
    if choice.directions != Default::default() {
        untold.push("how flow directions are coded in the package: a run writes powers of two".into());
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
