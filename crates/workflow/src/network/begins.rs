//! What decides where streams begin, and the heads of channels that were surveyed.

use bothros_core::Threshold;
use bothros_core::calibration::{FEWEST_CELLS, HeadAreas, Surveyed, USUALLY_OFF_CELLS};
use bothros_core::network::{Beginning, Begins, Converging, SlopeArea};
use bothros_store::{Inverse, Kept, LayerRole, LogLine, Record, Shape, Store, StudyPart};
use serde_json::json;

use super::threshold::figures_at;
use crate::study::as_read::Rounds;
use crate::study::settings::change_settings;
use crate::{Error, Facts, GridCache, Result, Settings, Stage, Streams, blocking, boxed, layer_features};

/// What surveyed heads say.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Heads {
    /// what those on a way of the flow have in common, in the measure of the threshold; none where there is none
    pub areas: Option<HeadAreas>,
    /// how many lie beyond the DEM
    pub outside: usize,
    /// how many lie where hardly anything drains to
    pub off: usize,
    /// how far the survey may be off, metres
    pub within_m: f64,
}

impl Heads {
    /// From where heads were found.
    fn of(found: &[Surveyed], streams: &Streams, within_m: f64) -> Self {
        let told = streams.unedited();
        let count = |what: fn(&Surveyed) -> bool| found.iter().filter(|s| what(s)).count();
        Self {
            areas: HeadAreas::of(found, |cell| told.get(cell).map_or(0, |&cells| Threshold::most(cells))),
            outside: count(|s| *s == Surveyed::Outside),
            off: count(|s| matches!(s, Surveyed::OffValley(_))),
            within_m,
        }
    }
}

/// What decides where streams begin, in words that follow “by”.
pub fn begins_told(begins: Begins) -> String {
    match begins {
        Begins::Area => "contributing area".into(),
        Begins::SlopeArea(SlopeArea { exponent, at_slope }) => {
            format!(
                "contributing area times the power {exponent} of slope, relative to a slope of {at_slope} m/m"
            )
        }
        Begins::Converging(Converging { curvature, over_m }) => {
            let mean = match over_m {
                0.0 => String::new(),
                m => format!(" of the ground averaged over {m} m"),
            };
            format!(
                "the area of converging land upstream (plan curvature{mean} beyond {curvature} per metre)"
            )
        }
        Begins::Surveyed => "surveyed heads".into(),
    }
}

/// How far surveyed heads of a study may be off, metres: as typed, or a cell and a half.
pub(crate) fn heads_within_m(facts: &Facts) -> f64 {
    let cell_m = facts.terrain.as_ref().map_or(1.0, |t| t.frame.cell_m());
    facts.settings.heads_within_m.unwrap_or(USUALLY_OFF_CELLS * cell_m)
}

/// The surveyed heads of a study, `[x, y]` in CRS units.
///
/// # Errors
/// Those of the database.
pub(crate) async fn surveyed_points(store: &Store, facts: &Facts) -> Result<Vec<[f64; 2]>> {
    let features = layer_features(store, facts, LayerRole::ChannelHeads).await?;
    let point = |shape| match shape {
        Shape::Point(at) => Some(at),
        _ => None,
    };
    Ok(features.into_iter().filter_map(|f| point(f.shape)).collect())
}

/// What the surveyed heads of a study say; none where there are none.
///
/// # Errors
/// [`Error::Refused`] before flow is routed.
pub(crate) async fn heads(store: &Store, cache: &GridCache, facts: &Facts) -> Result<Option<Heads>> {
    let points = surveyed_points(store, facts).await?;
    if points.is_empty() {
        return Ok(None);
    }
    let (streams, within_m) = (cache.streams(store, facts).await?, heads_within_m(facts));
    let found = blocking(move || {
        let surveyed = Beginning { begins: Begins::Surveyed, heads: points, within_m };
        let found = surveyed.found(&streams.grids().flow())?;
        Ok(Heads::of(&found, &streams, within_m))
    });
    Ok(Some(found.await?))
}

/// Sets how far surveyed heads may be off, or leaves it at a cell and a half; it can be undone.
///
/// # Errors
/// [`Error::Refused`] for a distance that is none, or more than 50 cells.
#[boxed]
pub async fn set_heads_within(store: &Store, study: i64, within_m: Option<f64>) -> Result<()> {
    let facts = Facts::of(&store.study(study).await?)?;
    let cell_m = facts.terrain.as_ref().map_or(1.0, |t| t.frame.cell_m());
    if within_m.is_some_and(|m| !(0.0..=50.0 * cell_m).contains(&m)) {
        return Err(Error::Refused(format!("a survey may be off by 0 to {:.0} m, 50 cells", 50.0 * cell_m)));
    }
    let change = store.change(study).await?;
    let set = |settings: &mut Settings| {
        settings.heads_within_m = within_m;
        Ok(())
    };
    let changed = change_settings(&change, set).await?;
    let text = match within_m {
        Some(m) => format!("Surveyed heads may be off by {m} m"),
        None => "Surveyed heads may be off by a cell and a half".into(),
    };
    let line = LogLine::new(Stage::Network.title(), text.clone());
    change.commit(Record::log(line).undone_by(text, changed.undo)).await?;
    Ok(())
}

/// What a study would begin its streams by.
async fn beginning_of(store: &Store, facts: &Facts, begins: Begins) -> Result<Beginning> {
    let sound = match begins {
        Begins::Area | Begins::Surveyed => true,
        Begins::SlopeArea(by) => by.is_sound(),
        Begins::Converging(by) => by.is_sound(),
    };
    if !sound {
        return Err(Error::Refused("where streams begin: these figures mean nothing".into()));
    }
    Ok(match begins {
        Begins::Surveyed => {
            let heads = surveyed_points(store, facts).await?;
            if heads.is_empty() {
                let what = "there are no surveyed heads: add them as a layer of points, under Layers";
                return Err(Error::Refused(what.into()));
            }
            Beginning { begins, heads, within_m: heads_within_m(facts) }
        }
        begins => Beginning { begins, ..Beginning::default() },
    })
}

/// Chooses what decides where streams begin; it can be undone. Where no stream would be left at the threshold, or heads decide that were surveyed, the threshold changes
/// with it: to the smallest area of a head, so that all of them begin, else to a hundredth of the largest value.
///
/// # Errors
/// [`Error::Refused`] before flow is routed, for figures that mean nothing, and where no stream begins in that way at any threshold.
#[boxed]
pub async fn set_begins(store: &Store, grids: &GridCache, study: i64, begins: Begins) -> Result<()> {
    let mut rounds = Rounds::new(store, study);
    loop {
        let facts = rounds.next().await?;
        let before = facts.network.ok_or_else(Error::not_routed)?.threshold;
        let beginning = beginning_of(store, &facts, begins).await?;
        if beginning == facts.settings.beginning {
            return Ok(());
        }
        let mut then = facts.clone();
        then.settings.beginning = beginning.clone();
        let streams = grids.streams(store, &then).await?;
        let threshold = blocking(move || first_of(&streams, &beginning, before)).await?;
        let found = figures_at(store, grids, &then, threshold).await?;
        let Some(change) = rounds.keep(&facts).await? else { continue };
        let set = |settings: &mut Settings| {
            settings.beginning = then.settings.beginning;
            Ok(())
        };
        let changed = change_settings(&change, set).await?;
        change.set(vec![(StudyPart::Network, Some(Kept::of(&found)?))]).await?;
        let text = format!("Streams begin by {}", begins_told(begins));
        let more = match threshold == before {
            true => String::new(),
            false => format!(", from {} cells on", threshold.as_cells()),
        };
        let line =
            LogLine::new(Stage::Network.title(), text.clone() + &more).with(json!({ "begins": begins }));
        let mut undo = vec![changed.undo];
        if threshold != before {
            undo.push(Inverse::SetThreshold { cells: before.as_cells() });
        }
        change.commit(Record::log(line).undone_by(text, Inverse::All { all: undo })).await?;
        return Ok(());
    }
}

/// The threshold that a way to begin streams is first seen at.
fn first_of(streams: &Streams, beginning: &Beginning, now: Threshold) -> Result<Threshold> {
    if beginning.begins == Begins::Surveyed {
        let found = beginning.found(&streams.grids().flow())?;
        let heads = Heads::of(&found, streams, beginning.within_m);
        return heads.areas.map(|areas| areas.least).ok_or_else(|| {
            Error::Refused(format!(
                "none of the surveyed heads lies on a way of the flow: {} outside the DEM, {} where fewer than {FEWEST_CELLS} cells drain to",
                heads.outside, heads.off
            ))
        });
    }
    let most = streams.unedited().values().iter().map(|&cells| Threshold::most(cells)).max().unwrap_or(0);
    match most {
        0 => Err(Error::Refused("no stream begins in this way anywhere on this DEM".into())),
        most if most < now.as_cells() => Ok(Threshold::cells((most / 100).max(1))),
        _ => Ok(now),
    }
}

/// Whether the surveyed heads are others than those that streams begin at.
///
/// # Errors
/// Those of the database.
#[boxed]
pub async fn heads_have_changed(store: &Store, facts: &Facts) -> Result<bool> {
    let beginning = &facts.settings.beginning;
    Ok(beginning.begins == Begins::Surveyed
        && (beginning.heads != surveyed_points(store, facts).await?
            || beginning.within_m != heads_within_m(facts)))
}
