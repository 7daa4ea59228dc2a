//! Running a recipe: from files to files.

mod catchments;
mod derived;
mod handover;
mod jointly;
mod routing;
mod workplace;

use std::path::{Path, PathBuf};
use std::time::Instant;

use bothros_core::calibration::USUALLY_OFF_CELLS;
use bothros_core::catchments::below_edge;
use bothros_core::conditioning::{StepKind, condition, cut_and_fill, fill_to_outlets, list_sinks};
use bothros_core::network::{
    Beginning, Edit, Flow, Network, edited_accumulation, extract_cells, extract_edited, main_stem_of_cells,
};
use bothros_core::routing::threads_of;
use bothros_core::{Area, Cell, Frame, Grid, Monitor, Part, Silent, Threshold};
use bothros_formats::{Crs, Geometry, Layer, VectorFormat, Wanted, write_layers};
use bothros_products::{RasterProduct, STREAM_ORDER, Stem};
use rayon::prelude::*;

use self::jointly::Together;
use self::routing::{Counted, Routed, counted, method_name};
use self::workplace::Workplace;
use crate::inputs;
use crate::pages::{NoPages, Pages, Ran};
use crate::room::Room;
use crate::summary::{NetworkFacts, OrderFacts, SinkCounts, StepTime, Summary, peak_memory};
use crate::terrain::{self, Prepared};
use crate::{Error, Recipe, Result, Routing};

/// Receives progress and the current step.
pub trait Report: Monitor {
    /// A new step begins.
    fn begin(&self, step: &str);
}

impl Report for Silent {
    fn begin(&self, _step: &str) {}
}

/// Runs a recipe and writes its results to `out`, which must not exist unless `overwrite` is set. It
/// appears only when all is done.
///
/// # Errors
/// [`Error::Recipe`] where the recipe or `out` is wrong, [`Error::Data`] where the data cannot be
/// used, [`Error::Write`], [`Error::Cancelled`]. Then nothing is left, and what was at `out` stays.
pub fn run(recipe: &Recipe, out: &Path, overwrite: bool, report: &dyn Report) -> Result<Summary> {
    run_with(recipe, out, overwrite, report, &NoPages)
}

/// [`run`], with whoever lays out the sheets and the report that the recipe asks for.
///
/// # Errors
/// As for [`run`], and those of [`Pages`].
pub fn run_with(
    recipe: &Recipe,
    out: &Path,
    overwrite: bool,
    report: &dyn Report,
    pages: &dyn Pages,
) -> Result<Summary> {
    match run_at(recipe, out, overwrite, report, pages, None)? {
        Joined::Here(summary) => Ok(*summary),
        Joined::Elsewhere(told) => Err(Error::Recipe(told)),
    }
}

/// How a run ended that several processes share.
#[derive(Debug)]
pub enum Joined {
    /// this one wrote the results
    Here(Box<Summary>),
    /// another one did: where
    Elsewhere(String),
}

/// [`run_with`] by any number of processes that each call it with the same recipe and `place`, a directory that all of them reach
/// or `s3://bucket/prefix`: they share breaching within a length, filling and routing by bands of rows. What comes before
/// (preparing, burning, other breaching) one of them does, and what comes after too, which writes the results to its own `out`. The results are those of a run by one, to the bit. A process that ends costs the band that it worked on; one that
/// is begun later goes on from what is there.
///
/// # Errors
/// As for [`run_with`]; where the recipe leaves sinks; where the place holds other work.
pub fn run_jointly(
    recipe: &Recipe,
    out: &Path,
    overwrite: bool,
    report: &dyn Report,
    pages: &dyn Pages,
    place: &str,
) -> Result<Joined> {
    run_at(recipe, out, overwrite, report, pages, Some(place))
}

fn run_at(
    recipe: &Recipe,
    out: &Path,
    overwrite: bool,
    report: &dyn Report,
    pages: &dyn Pages,
    place: Option<&str>,
) -> Result<Joined> {
    let begun = Instant::now();
    if out.exists() {
        if !overwrite {
            return Err(Error::Recipe(format!(
                "{} exists already: choose another folder, or give --overwrite",
                out.display()
            )));
        }
        if !out.is_dir() {
            return Err(Error::Recipe(format!("{} is no folder: choose another name", out.display())));
        }
    }
    recipe.check_files()?;
    pages.check(recipe)?;
    if place.is_some() {
        jointly::check(recipe)?;
    }
    let parent = match out.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent.to_owned(),
        _ => PathBuf::from("."),
    };
    std::fs::create_dir_all(&parent).map_err(|e| Error::write(&parent, e))?;
    // Beside the target, so that it can be moved there in one step.
    let work = Workplace::begin(&parent)?;
    let results = work.path().join("results");
    std::fs::create_dir(&results).map_err(|e| Error::write(&results, e))?;

    let room = Room::begin(recipe, work.path())?;
    let mut run =
        Run { recipe, room: &room, dir: &results, report, pages, steps: Vec::new(), share: 0.0, most: 1.0 };
    if recipe.has_pages() {
        run.most = BEFORE_PAGES;
    }
    let mut joint = place.map(|place| jointly::join(recipe, place)).transpose()?;
    let mut together = None;
    if let Some(joint) = &mut joint {
        let worked = run.step("conditioning and routing, with others", ROUTED, |part| {
            jointly::work(joint, recipe, &room, report, part)
        })?;
        match worked {
            Ok(computed) => together = Some(computed),
            Err(told) => return Ok(Joined::Elsewhere(told)),
        }
    }
    let mut summary = run.all(together)?;
    summary.notes.extend(room.note());
    drop(room);
    summary.seconds = begun.elapsed().as_secs_f64();
    summary.peak_memory_bytes = peak_memory();
    let path = results.join("summary.json");
    let text = serde_json::to_string_pretty(&summary).map_err(|e| Error::write(&path, e))?;
    std::fs::write(&path, text + "\n").map_err(|e| Error::write(&path, e))?;

    if out.exists() {
        // The old results go only when the new ones stand in their place.
        std::fs::rename(out, work.path().join("before")).map_err(|e| Error::write(out, e))?;
    }
    std::fs::rename(&results, out).map_err(|e| Error::write(out, e))?;
    if let Some(joint) = joint {
        let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
        let lies = out.canonicalize().unwrap_or_else(|_| out.to_owned());
        joint.done(&format!("{} on {}", lies.display(), host.trim()))?;
    }
    Ok(Joined::Here(Box::new(summary)))
}

struct Run<'a> {
    recipe: &'a Recipe,
    room: &'a Room,
    dir: &'a Path,
    report: &'a dyn Report,
    pages: &'a dyn Pages,
    steps: Vec<StepTime>,
    /// how much is done
    share: f64,
    /// how much there is but for pages
    most: f64,
}

/// Share of a run by which flow is routed.
const ROUTED: f64 = 0.46;
/// Share of a run before its pages are laid out.
const BEFORE_PAGES: f64 = 0.9;

/// What decides where streams are, beside the threshold.
struct Rules {
    beginning: Beginning,
    edits: Vec<Edit>,
}

impl<'a> Run<'a> {
    /// Runs a step that takes up to the share `to` of the whole.
    fn step<T>(&mut self, name: &str, to: f64, work: impl FnOnce(&Part<'_>) -> Result<T>) -> Result<T> {
        if self.report.is_cancelled() {
            return Err(Error::Cancelled);
        }
        let to = to * self.most;
        let begun = Instant::now();
        self.report.begin(name);
        let done = work(&Part::new(self.report, self.share, to))?;
        bothros_spill::trim();
        self.share = to;
        self.report.progress(to);
        self.steps.push(StepTime { step: name.to_owned(), seconds: begun.elapsed().as_secs_f64() });
        Ok(done)
    }

    /// Runs all steps but those that were done `together` with other processes.
    fn all(&mut self, together: Option<Together>) -> Result<Summary> {
        let (recipe, room) = (self.recipe, self.room);
        let (prepared, already, routed) = match together {
            Some(Together { prepared, conditioned, routed }) => (prepared, Some(conditioned), Some(routed)),
            None => {
                let prepared =
                    self.step("preparing the DEM", 0.12, |part| terrain::prepare(recipe, room, part))?;
                (prepared, None, None)
            }
        };
        let Prepared { dem, frame, crs, mut notes } = prepared;
        let mut done = match already {
            Some(done) => done,
            None => {
                let how = inputs::conditioning(recipe, &crs, &mut notes)?;
                self.step("conditioning", 0.25, |part| Ok(condition(&dem, &frame, &how, part)?))?
            }
        };
        let before = self.step("counting sinks", 0.35, |part| {
            // Where nothing but filling was done, its result tells; otherwise the DEM as it was is filled.
            let (filling, only) = (Part::new(part, 0.0, 0.6), [StepKind::Fill]);
            let only_filled = done.open.is_empty() && done.steps.iter().map(|s| s.kind).eq(only);
            let filled = if only_filled { None } else { Some(fill_to_outlets(&dem, &[], &filling)?) };
            let filled = filled.as_ref().unwrap_or(&done.ground);
            Ok(list_sinks(&dem, filled, &frame, 0, &Part::new(part, 0.6, 1.0))?.sinks)
        })?;
        let ground_moved = cut_and_fill(&dem, &done.ground, &frame)?;
        let cells = done.ground.values().par_iter().filter(|z| !z.is_nan()).count() as u64;

        let default = Routing::default();
        let routing = recipe.routing.as_ref().unwrap_or(&default);
        // Measured before flow is routed, which needs the memory.
        let routing_moved = match &done.routing {
            Some(surface) => cut_and_fill(&dem, surface, &frame)?,
            None => ground_moved,
        };
        let named = crate::derived::formulas(recipe)?.iter().any(|f| f.names.iter().any(|n| n == "prepared"));
        let model = recipe.handover.as_ref().and_then(|h| h.model.as_ref());
        let cut_across = model.is_some_and(|m| m.section_spacing_m.is_some());
        let prepared = (named || cut_across).then(|| dem.clone());
        let change = match recipe.has_pages() {
            true => Some(changed(dem, done.routing_surface())),
            false => {
                drop(dem);
                None
            }
        };
        let routed = self.route(routed, &done, routing, &frame, &crs, &mut notes)?;

        self.write_surfaces(&mut done, &routed, routing, &frame, &crs)?;
        let Counted { outlets: all_outlets, sinks: sinks_after, largest } = counted(&routed, &done.ground);
        let network = match &recipe.network {
            Some(settings) => {
                let threshold = match (settings.threshold.cells, settings.threshold.area_km2) {
                    (Some(cells), _) => Threshold::cells(cells),
                    (None, area) => Threshold::from_area(Area::km2(area.unwrap_or(0.0)), &frame),
                };
                let rules = Rules {
                    beginning: self.beginning(settings, &frame, &crs, &mut notes)?,
                    edits: settings.edits.iter().map(|e| e.edit()).collect::<Result<_>>()?,
                };
                Some((threshold, self.network(&routed, &done.ground, &frame, threshold, &rules)?))
            }
            None => None,
        };
        let network_facts = network.as_ref().map(|(t, n)| network_facts(n, *t, &frame, cells));
        if let Some((threshold, network)) = &network
            && network.reaches.is_empty()
        {
            notes.push(format!(
                "the threshold of {} cells is nowhere reached: there is no stream",
                threshold.as_cells()
            ));
        }
        let mut orders = None;
        if let Some((_, network)) = &network {
            let grid = network.orders(&routed.directions);
            let dir = self.dir;
            self.step("writing streams", 0.82, |_| write(dir, &STREAM_ORDER, &grid, &frame, &crs))?;
            orders = Some(grid);
        }
        let mut derived = std::collections::BTreeMap::new();
        if !recipe.derived.is_empty() {
            let layers = self.layers((&frame, &crs), &mut notes)?;
            let land = derived::Land {
                layers,
                prepared: prepared.as_ref(),
                ground: &done.ground,
                routed: &routed,
                network: network.as_ref().map(|(_, n)| n),
                orders: orders.as_ref(),
                frame: &frame,
                crs: &crs,
            };
            derived = self.derived(&land, &mut notes)?;
        }
        let mut catchments = match &recipe.catchments {
            Some(settings) => {
                let land = catchments::Land {
                    settings,
                    routed: &routed,
                    ground: &done.ground,
                    frame: &frame,
                    crs: &crs,
                    network: network.as_ref().map(|(_, n)| n),
                    orders: orders.as_ref(),
                    derived: &derived,
                };
                Some(self.catchments(&land, &mut notes)?)
            }
            None => None,
        };
        if let (Some((threshold, network)), Some(orders)) = (&network, &orders) {
            let stems = self.stems(network, &routed, orders, catchments.as_ref())?;
            let found = catchments.as_ref().map(|c| &c.found).filter(|found| !found.cells.is_empty());
            let layers = [
                bothros_products::reaches(network, &frame, &below_edge(&routed.directions), found)?,
                bothros_products::junctions(network, &frame)?,
                bothros_products::main_stems(&stems, &routed.directions, &done.ground, &frame)?,
            ];
            let dir = self.dir;
            let to = if recipe.handover.is_some() { 0.98 } else { 1.0 };
            self.step("writing the network", to, |_| write_package(dir, "network.gpkg", &crs, &layers))?;
            let given = catchments.as_mut().and_then(|c| Some((c.given.take()?, &c.points, &c.found.ids)));
            if let (Some(settings), Some((given, points, ids))) = (&recipe.handover, given) {
                let of = handover::HandedOver {
                    settings,
                    routed: &routed,
                    ground: &done.ground,
                    frame: &frame,
                    crs: &crs,
                    threshold: *threshold,
                    network,
                    orders,
                    ids,
                    points,
                    prepared: prepared.as_ref(),
                };
                self.handover(&of, given, &layers, &mut notes)?;
            }
        }

        let catchment_facts = catchments.as_ref().map(|c| c.facts(&frame));
        let (more, shown, points) = match catchments {
            Some(found) => (Some(found.more), found.shown, found.points),
            None => (None, None, Vec::new()),
        };
        let mut summary = Summary {
            program: crate::PROGRAM.into(),
            crs: crs.label(),
            rows: frame.rows,
            cols: frame.cols,
            cell_size_m: frame.cell_m(),
            cells,
            nodata_cells: frame.cells() as u64 - cells,
            sinks: SinkCounts { before, after: sinks_after, kept_open: done.open.len() as u64 },
            cut_and_fill: ground_moved,
            cut_and_fill_routing: routing_moved,
            conditioning: done.steps,
            remarks: done.remarks,
            notes,
            routing: method_name(routing).into(),
            outlets: all_outlets - sinks_after,
            largest_contributing_area_km2: largest * frame.cell_area().as_km2(),
            network: network_facts,
            catchments: catchment_facts,
            subbasins: more.as_ref().map(|m| m.subbasins),
            sites: more.as_ref().and_then(|m| m.sites.clone()),
            boundary: more.and_then(|m| m.boundary),
            steps: std::mem::take(&mut self.steps),
            seconds: 0.0,
            peak_memory_bytes: 0,
        };
        if let Some(change) = &change {
            let (layers, measures) = shown.unwrap_or_default();
            let ran = Ran {
                recipe,
                summary: &summary,
                frame: &frame,
                crs: &crs,
                ground: &done.ground,
                change,
                directions: &routed.directions,
                accumulation: &routed.accumulation,
                derived: &derived,
                network: network.as_ref().map(|(threshold, network)| (*threshold, network)),
                points: &points,
                layers: &layers,
                measures: &measures,
            };
            let (dir, pages) = (self.dir, self.pages);
            self.most = 1.0;
            let told = self.step("laying out pages", 1.0, |part| pages.write(&ran, dir, part))?;
            summary.notes.extend(told);
            summary.steps.append(&mut self.steps);
        }
        Ok(summary)
    }

    fn network(
        &mut self,
        routed: &Routed,
        ground: &Grid<f32>,
        frame: &Frame,
        threshold: Threshold,
        rules: &Rules,
    ) -> Result<Network> {
        let Routed { directions, accumulation, divided, .. } = routed;
        self.step("drawing the network", 0.8, |part| {
            let threads = match divided {
                Some(sums) => Some(threads_of(directions, sums, &Part::new(part, 0.0, 0.3))?),
                None => None,
            };
            let gathered = threads.as_ref().unwrap_or(accumulation);
            let flow = Flow { directions, accumulation: gathered, ground, frame };
            let begun = rules.beginning.on(&flow, &Part::new(part, 0.3, 0.5))?;
            let streams = begun.as_ref().unwrap_or(gathered);
            let edited = match rules.edits.is_empty() {
                true => None,
                false => Some(edited_accumulation(directions, streams, frame, &rules.edits)?.accumulation),
            };
            let streams = edited.as_ref().unwrap_or(streams);
            let part = &Part::new(part, 0.5, 1.0);
            Ok(match divided {
                None => extract_edited(directions, streams, accumulation, ground, frame, threshold, part)?,
                Some(sums) => {
                    let stream = streams.values().iter().map(|&s| threshold.is_stream(s)).collect();
                    let stream = Grid::from_vec(sums.rows(), sums.cols(), stream);
                    extract_cells(directions, accumulation, Some(sums), ground, frame, &stream, part)?
                }
            })
        })
    }

    /// What decides where streams begin.
    fn beginning(
        &self,
        settings: &crate::recipe::Network,
        frame: &Frame,
        crs: &Crs,
        notes: &mut Vec<String>,
    ) -> Result<Beginning> {
        let key = "network.heads";
        let mut heads = Vec::new();
        if let Some(path) = &settings.heads {
            for feature in inputs::features(self.recipe, key, path, Wanted::Points, crs, notes)? {
                if let Geometry::Point(at) = feature.shape {
                    heads.push(at);
                }
            }
        }
        let within_m = settings.heads_within_m.unwrap_or(USUALLY_OFF_CELLS * frame.cell_m());
        Ok(Beginning { begins: settings.begins, heads, within_m })
    }

    /// The main stem of each catchment, or of each outlet of the network where there is none.
    fn stems(
        &self,
        network: &Network,
        routed: &Routed,
        orders: &Grid<u8>,
        catchments: Option<&catchments::Found>,
    ) -> Result<Vec<Stem>> {
        let is_stream = |i: usize| (1..255).contains(&orders.values()[i]);
        let outlets: Vec<(Cell, Option<u32>)> = match catchments {
            Some(found) if !found.points.is_empty() => {
                found.points.iter().enumerate().map(|(at, p)| (p.cell, Some(at as u32 + 1))).collect()
            }
            _ => network
                .reaches
                .iter()
                .filter(|r| r.downstream.is_none())
                .filter_map(|r| Some((orders.cell(*r.cells.last()? as usize), None)))
                .collect(),
        };
        let stem = |(outlet, catchment_id)| {
            let cells = main_stem_of_cells(&routed.directions, &routed.accumulation, &is_stream, outlet)?;
            Ok(Stem { cells, catchment_id })
        };
        outlets.into_iter().map(stem).collect()
    }
}

/// A surface less the DEM that it came from, metres; NaN where it is the same.
fn changed(mut dem: Grid<f32>, surface: &Grid<f32>) -> Grid<f32> {
    for (z, &now) in dem.values_mut().iter_mut().zip(surface.values()) {
        let change = now - *z;
        *z = if change == 0.0 { f32::NAN } else { change };
    }
    dem
}

/// Writes a raster under its own name.
fn write<T: bothros_products::ProductCell>(
    dir: &Path,
    product: &RasterProduct<T>,
    values: &Grid<T>,
    frame: &Frame,
    crs: &Crs,
) -> Result<()> {
    let name = format!("{}.tif", product.name);
    product.write(&dir.join(&name), values, frame, crs).map_err(|e| Error::write(Path::new(&name), e))
}

fn write_package(dir: &Path, name: &str, crs: &Crs, layers: &[Layer]) -> Result<()> {
    write_layers(&dir.join(name), VectorFormat::GeoPackage, crs, layers)
        .map_err(|e| Error::write(Path::new(name), e))
}

fn network_facts(network: &Network, threshold: Threshold, frame: &Frame, cells: u64) -> NetworkFacts {
    let orders = (1..=network.highest_order()).map(|order| {
        let of: Vec<_> = network.reaches.iter().filter(|r| r.strahler == order).collect();
        OrderFacts {
            order,
            reaches: of.len() as u64,
            length_km: of.iter().map(|r| r.length_m).sum::<f64>() / 1000.0,
        }
    });
    let length_km = network.length_m() / 1000.0;
    NetworkFacts {
        threshold_km2: threshold.as_area(frame).as_km2(),
        threshold_cells: threshold.as_cells(),
        reaches: network.reaches.len() as u64,
        headwaters: network.headwaters() as u64,
        length_km,
        drainage_density: length_km / frame.area_of(cells).as_km2(),
        reaches_by_order: orders.collect(),
    }
}
