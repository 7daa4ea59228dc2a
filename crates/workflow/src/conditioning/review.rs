//! The review: sinks and barriers of the prepared DEM, before anything is done about them.

use std::time::Instant;

use bothros_core::conditioning::{
    Barrier, BarrierSearch, CROSSINGS_SEEN_M, Line, SinkReport, StreamFit, find_barriers,
    list_and_mark_sinks, sink_hierarchy_and_fill, stream_fits,
};
use bothros_core::memory::Step;
use bothros_core::network::{Astray, extract, leaves_low_ground};
use bothros_core::routing::{flow_accumulation, flow_directions};
use bothros_core::runoff::{runoff_to_fill, shares_through};
use bothros_core::terrain::{Radius, topographic_position, vertical_error};
use bothros_core::{Frame, Grid, Monitor, Part, Threshold};
use bothros_store::{
    Barrier as Row, JobHandle, Kept, LayerFeature, LayerRole, LogLine, NewBarrier, RasterRole, Record, Shape,
    Store, StudyPart, kept,
};
use serde::{Deserialize, Serialize};

use crate::conditioning::choices::{lines, places};
use crate::study::grids::prepared_dem;
use crate::study::kept_forms::KeptBarrier;
use crate::study::settings::change_settings;
use crate::{Error, Facts, Result, ReviewFacts, Stage, blocking, boxed, layer_features};

/// Sinks kept in the list, the largest by volume.
pub(crate) const SINKS_LISTED: usize = 500;

/// A mapped stream rises where it climbs by so much above lower ground that it has passed, metres.
const STREAM_RISE_M: f64 = 2.0;
/// A cell of it is off its valley where ground within so many metres lies lower by so many.
const STREAM_NEAR_M: f64 = 15.0;
const STREAM_OFF_M: f64 = 5.0;
/// It is off its valley where so large a share of its cells is.
const STREAM_OFF_SHARE: f64 = 0.5;
/// Mapped streams kept in the list.
const MISFITS_LISTED: usize = 100;

/// The provisional network begins at so many cells (common practice, no source), and has no more reaches
/// than this.
const PROVISIONAL_CELLS: u32 = 1000;
const PROVISIONAL_REACHES: usize = 10_000;
/// Topographic position of streams is taken within so many cells, and compared over so many cells along them.
const HIGH_RADIUS: f64 = 10.0;
const HIGH_ALONG: usize = 25;
/// Places kept in the list.
const ASTRAY_LISTED: usize = 200;

/// What was decided about a barrier.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Decision {
    /// water passes: the ground is lowered along the line
    Breach,
    /// it is filled as any sink
    Fill,
    /// it is real, and stays
    Keep,
}

impl Decision {
    /// Name in the database and in addresses.
    pub fn name(self) -> &'static str {
        match self {
            Self::Breach => "breach",
            Self::Fill => "fill",
            Self::Keep => "keep",
        }
    }
    /// From its name.
    pub fn from_name(name: &str) -> Option<Self> {
        [Self::Breach, Self::Fill, Self::Keep].into_iter().find(|d| d.name() == name)
    }
}

/// A barrier of a study with what was decided.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct BarrierFacts {
    /// its number
    pub id: i64,
    /// what was measured
    pub barrier: Barrier,
    /// whether the last search found it
    pub found: bool,
    /// what was decided
    pub decision: Option<Decision>,
    /// the breach line: the proposed one, or the one drawn instead
    pub line: Line,
    /// whether it was drawn
    pub drawn: bool,
}

impl BarrierFacts {
    /// Reads what is kept of a barrier.
    pub fn of(row: &Row) -> Result<Self> {
        let barrier = kept::read::<KeptBarrier>(row.facts.clone())?.0;
        let line = match &row.line {
            Some(line) => serde_json::from_value(line.clone())?,
            None => barrier.line.clone(),
        };
        Ok(Self {
            id: row.id,
            barrier,
            found: row.found,
            decision: row.decision.as_deref().and_then(Decision::from_name),
            line,
            drawn: row.line.is_some(),
        })
    }
}

/// Deeper sinks are more than the error of a good DEM, metres (common practice).
pub const DEEP_M: f64 = 0.3;

/// No survey is better, metres (common practice): a smaller estimate is that of ground that was smoothed.
const LEAST_ERROR_M: f64 = 0.05;

/// How the review looks for crossings.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct ReviewChoice {
    /// standard deviation of the DEM's error, metres; estimated from smooth ground where it is not typed
    pub vertical_error_m: Option<f64>,
    /// crossings are sought although cells are too large to show them
    pub on_coarse_cells: bool,
}

/// Chooses how the review looks for crossings, from the next one on; it can be undone.
///
/// # Errors
/// [`Error::Refused`] for an error that is no error of a DEM.
#[boxed]
pub async fn choose_review(store: &Store, study: i64, choice: ReviewChoice) -> Result<()> {
    if choice.vertical_error_m.is_some_and(|m| !(0.01..=20.0).contains(&m)) {
        return Err(Error::Refused("the vertical error must be between 0.01 and 20 m".into()));
    }
    let text = match (choice.vertical_error_m, choice.on_coarse_cells) {
        (Some(m), false) => format!("Vertical error {m} m"),
        (Some(m), true) => format!("Vertical error {m} m; crossings are sought on cells of any size"),
        (None, false) => "Vertical error estimated from smooth ground".to_owned(),
        (None, true) => {
            "Vertical error estimated from smooth ground; crossings are sought on cells of any size"
                .to_owned()
        }
    };
    let change = store.change(study).await?;
    let changed = change_settings(&change, |settings| {
        settings.review = choice;
        Ok(())
    })
    .await?;
    let line = LogLine::new(Stage::Conditioning.title(), text.clone());
    change.commit(Record::log(line).undone_by(text, changed.undo)).await?;
    Ok(())
}

/// What the review found.
struct Looked {
    report: SinkReport,
    runoff_mm: Vec<f64>,
    barriers: Vec<Barrier>,
    vertical_error_m: f64,
    through: f64,
    through_deep: f64,
    fits: Vec<StreamFit>,
    provisional: Provisional,
}

/// The network before anything is decided, and where it leaves the low ground.
struct Provisional {
    cells: u32,
    lines: Vec<LayerFeature>,
    astray: Vec<Astray>,
}

fn provisional(
    dem: &Grid<f32>,
    filled: &Grid<f32>,
    directions: &Grid<u8>,
    accumulation: &Grid<u32>,
    frame: &Frame,
    monitor: &dyn Monitor,
) -> Result<Provisional> {
    let mut cells = PROVISIONAL_CELLS;
    let network = loop {
        let network = extract(
            directions,
            accumulation,
            filled,
            frame,
            Threshold::cells(cells),
            &Part::new(monitor, 0.0, 0.3),
        )?;
        if network.reaches.len() <= PROVISIONAL_REACHES {
            break network;
        }
        cells *= 2;
    };
    let position =
        topographic_position(dem, frame, Radius::Cells(HIGH_RADIUS), &Part::new(monitor, 0.3, 0.9))?;
    let astray = leaves_low_ground(&network, &position, accumulation, frame, HIGH_ALONG);
    let line = |reach: &bothros_core::network::Reach| -> Vec<[f64; 2]> {
        reach.line().map(|cell| frame.centre(dem.cell(cell as usize))).map(|(x, y)| [x, y]).collect()
    };
    let lines = network.reaches.iter().filter(|r| r.line().count() > 1).map(|reach| LayerFeature {
        id: reach.id,
        name: None,
        elevation: None,
        numbers: Default::default(),
        shape: Shape::Line(line(reach)),
    });
    Ok(Provisional { cells, lines: lines.collect(), astray })
}

pub(crate) async fn run(store: &Store, study: i64, handle: &JobHandle) -> Result<String> {
    let begun = Instant::now();
    let facts = Facts::of(&store.study(study).await?)?;
    let terrain = facts.terrain.clone().ok_or_else(|| Error::Refused("prepare the DEM first".into()))?;
    let cells = terrain.frame.cells() as u64;
    Step::Review.check(cells).map_err(|too_much| match Step::Route.check(cells) {
        Ok(()) => Error::Refused(format!(
            "{too_much}. Conditioning takes less: it goes on without them, under Settings"
        )),
        Err(_) => too_much.into(),
    })?;
    let meta = prepared_dem(store, study, &terrain).await?;
    handle.say("reading elevations");
    let dem = store.read_raster::<f32>(&meta).await?;
    let (frame, monitor, choice) = (terrain.frame, handle.clone(), facts.settings.review.clone());
    let unseen = frame.cell_m() > CROSSINGS_SEEN_M && !choice.on_coarse_cells;
    let mut search = BarrierSearch {
        streams: lines(layer_features(store, &facts, LayerRole::MappedStreams).await?),
        culverts: places(layer_features(store, &facts, LayerRole::Culverts).await?),
        ..Default::default()
    };
    handle.progress(0.1);
    let looked: Looked = blocking(move || {
        let part = |from: f64, to: f64| Part::new(&monitor, from, to);
        monitor.say("finding how sinks lie in each other, and where water stands");
        let (sinks, filled) = sink_hierarchy_and_fill(&dem, &frame, &[], &part(0.1, 0.3))?;
        monitor.say("measuring sinks");
        let deep = DEEP_M as f32;
        let (report, marks) =
            list_and_mark_sinks(&dem, &filled, &frame, SINKS_LISTED, deep, &part(0.3, 0.38))?;
        monitor.say("routing, to see what drains there");
        let directions = flow_directions(&filled, &part(0.38, 0.55))?;
        let accumulation = flow_accumulation(&directions, &part(0.55, 0.6))?;
        let (through, through_deep) = shares_through(&marks, &directions);
        drop(marks);
        let runoff_mm = report
            .largest
            .iter()
            .map(|s| runoff_to_fill(&dem, &filled, &directions, &accumulation, &frame, s))
            .collect();
        monitor.say("drawing a provisional network");
        let provisional = provisional(&dem, &filled, &directions, &accumulation, &frame, &part(0.6, 0.7))?;
        drop((filled, directions));
        monitor.say("looking for barriers");
        let usual = search.vertical_error_m;
        let estimated = || vertical_error(&dem).map_or(usual, |error| error.max(LEAST_ERROR_M));
        search.vertical_error_m = choice.vertical_error_m.unwrap_or_else(estimated);
        let barriers = match unseen {
            true => Vec::new(),
            false => find_barriers(&dem, &accumulation, &frame, &sinks, &search, &part(0.7, 0.98))?,
        };
        monitor.say("looking how mapped streams lie");
        let near_m = STREAM_NEAR_M.max(3.0 * frame.cell_m());
        let fits = stream_fits(&dem, &frame, &search.streams, near_m, STREAM_OFF_M);
        let vertical_error_m = search.vertical_error_m;
        Ok(Looked { report, runoff_mm, barriers, vertical_error_m, through, through_deep, fits, provisional })
    })
    .await?;
    let Looked {
        report,
        runoff_mm,
        barriers,
        vertical_error_m,
        through: through_sinks,
        through_deep,
        fits,
        provisional,
    } = looked;
    let took_s = begun.elapsed().as_secs_f64();
    let text = match unseen {
        true => {
            format!("Found {} sinks; cells of {} m show no crossings", report.sinks, terrain.frame.cell_m())
        }
        false => {
            format!("Found {} sinks and proposed {} crossings of barriers", report.sinks, barriers.len())
        }
    };
    let streams = fits.len();
    let mut misfits: Vec<StreamFit> =
        fits.into_iter().filter(|f| f.rise_m >= STREAM_RISE_M || f.off_share >= STREAM_OFF_SHARE).collect();
    misfits
        .sort_by(|a, b| b.rise_m.max(b.off_m * b.off_share).total_cmp(&a.rise_m.max(a.off_m * a.off_share)));
    let misfits_in_all = misfits.len();
    misfits.truncate(MISFITS_LISTED);
    let review = ReviewFacts {
        sinks: report,
        runoff_mm,
        misfits,
        misfits_in_all,
        streams,
        through_sinks,
        through_deep: Some(through_deep),
        barriers: barriers.len(),
        vertical_error_m: Some(vertical_error_m),
        unseen,
        astray_in_all: provisional.astray.len(),
        astray: provisional.astray.into_iter().take(ASTRAY_LISTED).collect(),
        provisional_cells: provisional.cells,
        took_s,
    };
    let new = barriers
        .into_iter()
        .map(|b| {
            Ok(NewBarrier { x: b.crest[0], y: b.crest[1], score: b.score, facts: Kept::of(&KeptBarrier(b))? })
        })
        .collect::<Result<Vec<_>>>()?;
    if handle.is_cancelled() {
        return Err(bothros_core::Error::Cancelled.into());
    }
    // A barrier that lies so near one known before is the same one.
    let change = store.change(study).await?;
    if change.raster(RasterRole::Dem).await?.is_none_or(|now| now.id != meta.id) {
        return Err(Error::Refused(
            "the DEM was changed meanwhile: look for sinks and barriers again".into(),
        ));
    }
    change.replace_layer(LayerRole::Provisional, provisional.lines).await?;
    change.keep_barriers(new, 30.0 / terrain.frame.unit_m).await?;
    change.set(vec![(StudyPart::Review, Some(Kept::of(&review)?))]).await?;
    let line = LogLine::new(Stage::Conditioning.title(), text.clone()).taking(begun.elapsed());
    change.commit(Record::log(line)).await?;
    Ok(text)
}
