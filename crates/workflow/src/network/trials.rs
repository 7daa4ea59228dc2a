//! Trials: networks that were tried, kept with their scores, and the one that becomes the study's network.

use std::time::Instant;

use bothros_core::Threshold;
use bothros_core::calibration::{Scores, Side, agreement};
use bothros_core::network::{Beginning, Begins, extract};
use bothros_core::routing::{Method, flow_accumulation};
use bothros_products::Row;
use bothros_store::{Inverse, Kept, LogLine, RasterRole, Record, Store, StudyPart, Trial, kept};
use serde::{Deserialize, Serialize};
use serde_json::json;
use sha2::{Digest, Sha256};

use crate::conditioning::choices::fingerprint;
use crate::network::begins::begins_told;
use crate::network::map::StreamMap;
use crate::network::threshold::figures_at;
use crate::study::as_read::Rounds;
use crate::study::settings::change_settings;
use crate::study::wanted::while_wanted;
use crate::{Calibration, Error, Facts, GridCache, Result, Settings, Stage, StreamEdit, boxed};

/// What is known of a trial.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TrialFacts {
    /// the threshold
    pub threshold: Threshold,
    /// as area, m²
    pub threshold_m2: f64,
    /// the DEM: its file, and its cell size in metres
    pub dem: String,
    /// its cell size, metres
    pub cell_m: f64,
    /// tells whether flow was routed over the same surface
    pub surface: String,
    /// what conditioning did, in words
    pub conditioning: Vec<String>,
    /// how flow was routed
    pub method: String,
    /// mean width of the streams where the method lets them spread, metres
    #[serde(default)]
    pub width_m: Option<f64>,
    /// tolerance of the scores, metres
    pub tolerance_m: f64,
    /// scores; none without mapped streams
    pub scores: Option<Scores>,
    /// number of reaches
    pub reaches: usize,
    /// number of headwaters
    pub headwaters: usize,
    /// length of all reaches, metres
    pub length_m: f64,
    /// length over the footprint, km/km²
    pub density_km: f64,
    /// highest Strahler order
    pub highest_order: u8,
    /// edits by hand, in words
    #[serde(default)]
    pub by_hand: Vec<String>,
    /// what decides where streams begin
    #[serde(default)]
    pub beginning: Beginning,
    /// mean length of the way to a stream along the flow, metres
    pub to_stream_m: Option<f64>,
}

/// A stretch of a trial's network, or of the mapped streams that it misses.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TrialLine {
    /// which side has it alone; none where both have it
    pub side: Option<Side>,
    /// Strahler order; 0 for a mapped stream
    pub order: u8,
    /// `[x, y]` in CRS units
    pub line: Vec<[f64; 2]>,
}

/// A trial as it is shown.
#[derive(Debug, Clone, PartialEq)]
pub struct KeptTrial {
    /// what is kept
    pub trial: Trial,
    /// read
    pub facts: TrialFacts,
    /// what keeps it from being chosen now, in words
    pub outdated: Option<String>,
}

impl KeptTrial {
    /// The trial as a row of [`bothros_products::TRIALS`].
    pub fn row(&self) -> Row {
        let f = &self.facts;
        let scores = f.scores.as_ref();
        vec![
            self.trial.name.clone().into(),
            f.threshold_m2.into(),
            f.threshold.as_cells().into(),
            f.dem.clone().into(),
            f.cell_m.into(),
            f.method.clone().into(),
            begins_told(f.beginning.begins).into(),
            f.tolerance_m.into(),
            scores.map(|s| s.matched()).into(),
            scores.map(|s| s.found()).into(),
            scores.map(|s| s.agreement()).into(),
            scores.and_then(|s| s.away_m).into(),
            f.length_m.into(),
            f.density_km.into(),
            (f.headwaters as i64).into(),
            f.highest_order.into(),
            f.to_stream_m.into(),
            self.trial.remark.clone().into(),
            self.trial.justification.clone().into(),
        ]
    }

    /// Whether flow is routed over the same surface now, with the same edits by hand, so that it can be chosen.
    pub fn is_current(&self) -> bool {
        self.outdated.is_none()
    }
}

/// What has changed since a trial was kept.
fn outdated(trial: &TrialFacts, facts: &Facts, surface: &str) -> Option<String> {
    if facts.routing.is_none() || trial.surface != surface {
        return Some("another surface than now".into());
    }
    if trial.beginning != facts.settings.beginning {
        return Some(match (trial.beginning.begins, facts.settings.beginning.begins) {
            (Begins::Surveyed, Begins::Surveyed) => "other surveyed heads than now".into(),
            (then, _) => format!("streams began by {}", begins_told(then)),
        });
    }
    let now = edits_of(facts);
    let only = |some: &[String], others: &[String]| some.iter().find(|e| !others.contains(e)).cloned();
    match (only(&now, &trial.by_hand), only(&trial.by_hand, &now)) {
        (Some(new), _) => Some(format!("before a change by hand: {}", uncapitalised(&new))),
        (None, Some(old)) => Some(format!("with a change by hand since taken back: {}", uncapitalised(&old))),
        (None, None) => None,
    }
}

fn uncapitalised(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_lowercase().chain(letters).collect())
}

/// Tells one routed surface from another.
fn surface_of(facts: &Facts) -> Result<String> {
    let known = json!([
        facts.source.as_ref().map(|s| s.names()),
        facts.terrain.as_ref().map(|t| json!([t.prepared, t.summary, t.frame])),
        facts.routing.as_ref().map(|r| json!([r.largest_cells, r.conditioned.as_ref().map(|c| &c.key)])),
    ]);
    Ok(fingerprint(Sha256::new_with_prefix(serde_json::to_vec(&known)?)))
}

/// What was changed by hand, in words.
fn edits_of(facts: &Facts) -> Vec<String> {
    facts.settings.edits.iter().map(StreamEdit::told).collect()
}

/// The name of a trial tells what was varied: the study's short name, the content, the cell size where other
/// trials have another, the threshold, and, where a trial of that name has other changes by hand, that it has them. A
/// number tells apart what is alike in all of these.
fn name_of(short: &str, facts: &TrialFacts, others: &[KeptTrial]) -> String {
    let m2 = facts.threshold_m2;
    let digits = |value: f64| {
        let text = if value >= 10.0 { format!("{value:.0}") } else { format!("{value:.1}") };
        text.trim_end_matches(".0").replace('.', "_")
    };
    let area = match m2 {
        m2 if m2 >= 1e6 => format!("{}km2", digits(m2 / 1e6)),
        m2 if m2 >= 1e4 => format!("{}ha", digits(m2 / 1e4)),
        m2 => format!("{}m2", digits(m2)),
    };
    let varied = others.iter().any(|o| (o.facts.cell_m - facts.cell_m).abs() > 0.01);
    let dem = if varied { format!("_{}m", digits(facts.cell_m)) } else { String::new() };
    // Another method than D8 stands where the content is named.
    let content = match (facts.method.as_str(), facts.beginning.begins) {
        (_, Begins::SlopeArea(_)) => "slope",
        (_, Begins::Converging(_)) => "hollows",
        (_, Begins::Surveyed) => "heads",
        ("D-infinity", _) => "dinf",
        ("MFD", _) => "mfd",
        _ => "streams",
    };
    let long = format!("{short}_{content}{dem}_{area}");
    // A name has 40 characters at most.
    let ending = |end: &str| match long.len() + end.len() {
        ..=40 => format!("{long}{end}"),
        _ => {
            let short: String = format!("{short}{dem}_{area}").chars().take(40 - end.len()).collect();
            short + end
        }
    };
    let named = |name: &str| others.iter().find(|o| o.trial.name == name);
    let plain = ending("");
    let Some(other) = named(&plain) else { return plain };
    let by_hand = !facts.by_hand.is_empty() && other.facts.by_hand != facts.by_hand;
    let how = if by_hand { "_hand" } else { "" };
    let numbered = (2..).map(|n| ending(&format!("{how}_{n}")));
    let mut names = by_hand.then(|| ending(how)).into_iter().chain(numbered);
    names.find(|name| named(name).is_none()).unwrap_or(plain)
}

/// The trials of a study, the oldest first.
#[boxed]
pub async fn trials(store: &Store, study: i64) -> Result<Vec<KeptTrial>> {
    let facts = Facts::of(&store.study(study).await?)?;
    let now = surface_of(&facts)?;
    let read = |trial: Trial| {
        let known: TrialFacts = kept::read(trial.facts.clone())?;
        let outdated = outdated(&known, &facts, &now);
        Ok(KeptTrial { trial, facts: known, outdated })
    };
    store.trials(study).await?.into_iter().map(read).collect()
}

/// Keeps the network at a threshold as a trial; it can be undone.
///
/// # Errors
/// [`Error::Refused`] before flow is routed, for a tolerance out of range, and where no stream is left.
#[boxed]
pub async fn keep_trial(
    store: &Store,
    grids: &GridCache,
    calibration: &Calibration,
    study: i64,
    (threshold, tolerance_m): (Threshold, f64),
    remark: &str,
) -> Result<i64> {
    let begun = Instant::now();
    let facts = Facts::of(&store.study(study).await?)?;
    let number = grids.number(store, &facts).await?;
    let compared = calibration.comparison(store, grids, study, threshold, tolerance_m).await?;
    let network = grids.network(store, &facts, threshold).await?;
    let (Some(terrain), Some(routing), Some(source)) = (&facts.terrain, &facts.routing, &facts.source) else {
        return Err(Error::not_routed());
    };
    if network.reaches.is_empty() {
        return Err(Error::Refused("at this threshold there is no stream to keep".into()));
    }
    let routed = grids.get(store, &facts).await?;
    let map = StreamMap::of(store, &facts, &routed.frame).await?;
    let has_map = !map.lines.is_empty();
    let streams = grids.streams(store, &facts).await?;
    let spreads = routing.method == Method::Mfd;
    let to_stream_m = grids.ways(store, &facts, threshold).await?.mean_m;
    let (scores, width_m) = while_wanted(move |wanted| {
        let g = &*routed;
        let own = streams.accumulation();
        let all = agreement(&g.directions, own, &g.frame, &map.within(tolerance_m), &[threshold], wanted)?;
        // The area of all cells that reach the threshold, before streams are brought to one thread, over the length of the lines that D8 alone would draw.
        let width_m = match spreads {
            false => None,
            true => {
                let d8 = flow_accumulation(&g.directions, wanted)?;
                let lines = extract(&g.directions, &d8, &g.filled, &g.frame, threshold, wanted)?.length_m();
                let cells = g.accumulation.values().iter().filter(|&&a| threshold.is_stream(a)).count();
                (lines > 0.0).then(|| g.frame.area_of(cells as u64).as_m2() / lines)
            }
        };
        Ok((all.first().copied().filter(|_| has_map), width_m))
    })
    .await?;
    let length_m = network.length_m();
    let found = TrialFacts {
        threshold,
        threshold_m2: threshold.as_area(&terrain.frame).as_m2(),
        dem: source.title(),
        cell_m: terrain.frame.cell_m(),
        surface: surface_of(&facts)?,
        conditioning: routing
            .conditioned
            .iter()
            .flat_map(|c| c.steps.iter().map(|s| s.kind.title().to_owned()))
            .collect(),
        method: routing.method.title().into(),
        width_m,
        tolerance_m,
        scores,
        reaches: network.reaches.len(),
        headwaters: network.headwaters(),
        length_m,
        density_km: length_m / 1000.0 / terrain.frame.area_of(terrain.summary.cells).as_km2(),
        highest_order: network.highest_order(),
        by_hand: edits_of(&facts),
        beginning: facts.settings.beginning.clone(),
        to_stream_m,
    };
    let order = |reach: Option<u32>| reach.map_or(0, |id| network.reaches[id as usize - 1].strahler);
    let matched = compared.matched.iter().map(|m| TrialLine {
        side: None,
        order: order(Some(m.reach)),
        line: m.line.clone(),
    });
    let apart = compared.shortfalls.iter().map(|s| TrialLine {
        side: Some(s.side),
        order: order(s.reach),
        line: s.line.clone(),
    });
    let drawn: Vec<TrialLine> = match has_map {
        true => matched.chain(apart).collect(),
        // Nothing to hold it against: all of it is simply the network.
        false => apart.chain(matched).map(|l| TrialLine { side: None, ..l }).collect(),
    };
    let change = store.change(study).await?;
    if change.raster(RasterRole::Accumulation).await?.is_none_or(|now| now.id != number) {
        return Err(Error::Refused("flow was routed again meanwhile: keep the trial once more".into()));
    }
    // Nobody keeps another of this name meanwhile.
    let name = name_of(&facts.short_name(), &found, &trials(store, study).await?);
    let mut undo = Vec::new();
    // DEMs compare at one tolerance only: the first trial fixes that of the study.
    if facts.settings.tolerance_m.is_none() {
        let set = |settings: &mut Settings| {
            settings.tolerance_m.get_or_insert(tolerance_m);
            Ok(())
        };
        undo.push(change_settings(&change, set).await?.undo);
    }
    let id = change.add_trial(&name, Kept::of(&found)?, remark.trim(), &drawn).await?;
    let text = format!("Trial {name} kept");
    let line = LogLine::new(Stage::Network.title(), text.clone())
        .with(serde_json::to_value(&found)?)
        .taking(begun.elapsed());
    undo.push(Inverse::RemoveTrial { id });
    change.commit(Record::log(line).undone_by(text, Inverse::All { all: undo })).await?;
    Ok(id)
}

/// Gives a trial another name and remark.
///
/// # Errors
/// [`Error::Refused`] for a name that cannot become that of files, or that another trial has.
#[boxed]
pub async fn describe_trial(store: &Store, study: i64, id: i64, name: &str, remark: &str) -> Result<()> {
    let fits = name.len() <= 40 && name.starts_with(|c: char| c.is_ascii_lowercase());
    if !fits || !name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_') {
        return Err(Error::Refused(
            "a trial’s name has at most 40 lower-case letters, digits and underscores, a letter first: it becomes the name of files".into(),
        ));
    }
    let before = store.trial(study, id).await?;
    let change = store.change(study).await?;
    if name != before.name && change.trial_names().await?.iter().any(|n| n == name) {
        return Err(Error::Refused(format!("another trial is called {name}")));
    }
    change.describe_trial(id, name, remark).await?;
    let text = format!("Trial {} described", before.name);
    let line =
        LogLine::new(Stage::Network.title(), text.clone()).with(json!({ "name": name, "remark": remark }));
    let undo = Inverse::DescribeTrial { id, name: before.name, remark: before.remark };
    change.commit(Record::log(line).undone_by(text, undo)).await?;
    Ok(())
}

/// Deletes a trial. It can be undone.
///
/// # Errors
/// [`bothros_store::Error::NotFound`] where it was deleted before.
#[boxed]
pub async fn delete_trial(store: &Store, study: i64, id: i64) -> Result<()> {
    let change = store.change(study).await?;
    let name = store.trial(study, id).await?.name;
    change.set_trial_deleted(id, true).await?;
    let text = format!("Trial {name} deleted");
    let line = LogLine::new(Stage::Network.title(), text.clone());
    change.commit(Record::log(line).undone_by(text, Inverse::RestoreTrial { id })).await?;
    Ok(())
}

/// Makes a trial the study's network, with the reason; it can be undone.
///
/// # Errors
/// [`Error::Refused`] without a reason, and where flow is routed over another surface now.
#[boxed]
pub async fn choose_trial(
    store: &Store,
    grids: &GridCache,
    study: i64,
    id: i64,
    justification: &str,
) -> Result<()> {
    let justification = justification.trim();
    if justification.is_empty() {
        return Err(Error::Refused(
            "say why: the justification goes into the log and into every package".into(),
        ));
    }
    if justification.chars().count() > 5000 {
        return Err(Error::Refused("a justification may have 5 000 characters".into()));
    }
    let mut rounds = Rounds::new(store, study);
    loop {
        let facts = rounds.next().await?;
        let all = trials(store, study).await?;
        let kept =
            all.into_iter().find(|t| t.trial.id == id).ok_or(bothros_store::Error::NotFound("trial"))?;
        if let Some(why) = &kept.outdated {
            return Err(Error::Refused(format!(
                "{} (DEM {}) cannot be chosen as it is, {why}: take up that DEM at the Terrain stage, condition and change by hand \
                 as then, and keep the trial anew",
                kept.trial.name, kept.facts.dem
            )));
        }
        let cells = facts.network.map(|n| n.threshold.as_cells());
        let found = figures_at(store, grids, &facts, kept.facts.threshold).await?;
        let Some(change) = rounds.keep(&facts).await? else { continue };
        change.set(vec![(StudyPart::Network, Some(Kept::of(&found)?))]).await?;
        let before = change.choose_trial(Some((id, justification.to_owned()))).await?;
        let (was, why) = before.map_or((None, String::new()), |(id, why)| (Some(id), why));
        let text = format!("{} chosen as the study’s network: {justification}", kept.trial.name);
        let line = LogLine::new(Stage::Network.title(), text)
            .with(json!({ "trial": kept.trial.name, "facts": kept.facts }));
        let undo = Inverse::ChooseTrial { id: was, justification: why, cells };
        change.commit(Record::log(line).undone_by(format!("{} chosen", kept.trial.name), undo)).await?;
        return Ok(());
    }
}

/// The trial that was chosen, with the reason, while the study still has its network.
#[boxed]
pub async fn chosen_trial(store: &Store, facts: &Facts) -> Result<Option<(KeptTrial, String)>> {
    let threshold = facts.network.map(|n| n.threshold);
    let chosen =
        trials(store, facts.study).await?.into_iter().find_map(|t| Some((t.trial.justification.clone()?, t)));
    let still = chosen.filter(|(_, t)| t.is_current() && Some(t.facts.threshold) == threshold);
    Ok(still.map(|(why, t)| (t, why)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts(m2: f64, cell_m: f64) -> TrialFacts {
        TrialFacts {
            threshold: Threshold::cells(1),
            threshold_m2: m2,
            dem: "a.tif".into(),
            cell_m,
            surface: String::new(),
            conditioning: vec![],
            method: "D8".into(),
            width_m: None,
            tolerance_m: 15.0,
            scores: None,
            reaches: 1,
            headwaters: 1,
            length_m: 1.0,
            density_km: 1.0,
            highest_order: 1,
            by_hand: Vec::new(),
            beginning: Beginning::default(),
            to_stream_m: None,
        }
    }

    #[test]
    fn names_tell_what_was_varied() {
        assert_eq!(name_of("sorrel", &facts(0.45e6, 4.0), &[]), "sorrel_streams_45ha");
        assert_eq!(name_of("sorrel", &facts(4.5e6, 4.0), &[]), "sorrel_streams_4_5km2");
        let trial = Trial {
            id: 1,
            name: String::new(),
            facts: json!({}),
            remark: String::new(),
            justification: None,
            created_at: Default::default(),
        };
        let spread = TrialFacts { method: "MFD".into(), ..facts(12.0e4, 4.0) };
        assert_eq!(name_of("sorrel", &spread, &[]), "sorrel_mfd_12ha");
        let other = KeptTrial { trial, facts: facts(1.0, 30.0), outdated: None };
        let name = name_of("sorrel", &facts(12.0e4, 4.0), &[other]);
        assert_eq!(name, "sorrel_streams_4m_12ha");
    }

    #[test]
    fn no_two_trials_have_one_name() {
        let mut kept: Vec<KeptTrial> = Vec::new();
        let mut keep = |m2: f64, edits: &[&str]| {
            let by_hand = edits.iter().map(|e| (*e).to_owned()).collect();
            let facts = TrialFacts { by_hand, ..facts(m2, 4.0) };
            let name = name_of("sorrel", &facts, &kept);
            assert!(name.len() <= 40 && kept.iter().all(|k| k.trial.name != name), "{name}");
            let trial = Trial {
                id: kept.len() as i64,
                name: name.clone(),
                facts: json!({}),
                remark: String::new(),
                justification: None,
                created_at: Default::default(),
            };
            kept.push(KeptTrial { trial, facts, outdated: None });
            name
        };
        assert_eq!(keep(12.0e4, &[]), "sorrel_streams_12ha");
        assert_eq!(keep(12.0e4, &["pruned"]), "sorrel_streams_12ha_hand");
        assert_eq!(keep(12.0e4, &["pruned", "begun"]), "sorrel_streams_12ha_hand_2");
        assert_eq!(keep(12.0e4, &[]), "sorrel_streams_12ha_2");
        assert_eq!(keep(1.5e6, &["pruned"]), "sorrel_streams_1_5km2");
        for _ in 0..30 {
            keep(1.5e6, &[]);
        }
        assert!(name_of("abcdefgh", &facts(123_456e6, 30.5), &[]).len() <= 40);
    }
}
