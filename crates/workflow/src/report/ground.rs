//! The DEM: what was wrong with it, what was done, what that changed; and the barriers.

use bothros_core::conditioning::CutAndFill;
use bothros_sheets::report::{Block, Drawn, Figured};
use bothros_sheets::{BarUnit, Fit, Layout, Page, PageSize, Sheet, What, begin};

use super::{table, words};
use crate::handover::package::conditioning_lines;
use crate::sheets::{SheetSources, laid};
use crate::{BarrierFacts, Decision, Facts, Result, Severity, findings, quantity};

/// Size of a map in a report, mm, and its resolution.
const MAP: PageSize = PageSize::Free { width_mm: 160.0, height_mm: 110.0 };
pub(super) const DPI: f64 = 150.0;

/// A page of a figure, whose map the land fills: nobody measures it by a scale.
pub(super) fn figure(layers: &[String], unit: BarUnit, facts: &Facts) -> Result<Sheet> {
    let mut sheet = begin(Layout::Figure, Page { size: MAP, across: true }, layers, unit, 1.0)?;
    if let Some(terrain) = &facts.terrain {
        let [west, south, east, north] = terrain.frame.extent();
        let rim = ((east - west).max(north - south)) * 0.02;
        for part in &mut sheet.parts {
            if let What::Frame(frame) = &mut part.what {
                frame.fit = Fit::Box { of: [west - rim, south - rim, east + rim, north + rim] };
            }
        }
    }
    Ok(sheet)
}

/// A map of the study that shows these layers; none where nothing of them is there.
pub(super) async fn map(
    from: SheetSources<'_>,
    facts: &Facts,
    layers: &[&str],
    caption: impl Into<String>,
) -> Result<Option<Block>> {
    let there = crate::sheet_layers(from.store, facts, None).await?;
    let layers: Vec<String> =
        layers.iter().filter(|l| there.iter().any(|t| t.key == **l)).map(|l| (*l).to_owned()).collect();
    if layers.is_empty() {
        return Ok(None);
    }
    let unit = match quantity::units() {
        bothros_products::Units::Metric => BarUnit::Metric,
        bothros_products::Units::UsCustomary => BarUnit::Customary,
    };
    let sheet = figure(&layers, unit, facts)?;
    let all = Box::pin(laid(from, facts.study, &sheet, DPI)).await?;
    let caption = caption.into();
    let told = format!("Map of {}: {caption}", facts.name);
    Ok(Some(Block::Figure(Figured { caption, told, drawn: Drawn::Map(all.drawing) })))
}

/// What was cut and filled, as a row of a table.
pub(super) fn moved_row(name: &str, of: &CutAndFill) -> Vec<String> {
    vec![
        name.to_owned(),
        quantity::volume(of.cut_m3),
        quantity::metres(of.deepest_cut_m),
        quantity::volume(of.fill_m3),
        quantity::metres(of.highest_fill_m),
    ]
}

/// What was found about the DEM, how it was prepared and conditioned, and what that changed.
pub(super) async fn ground(from: SheetSources<'_>, facts: &Facts) -> Result<Vec<Block>> {
    let mut blocks = Vec::new();
    let found: Vec<Vec<String>> = findings(facts, quantity::units())
        .into_iter()
        .filter(|f| f.severity != Severity::Good)
        .map(|f| vec![f.title, f.text])
        .collect();
    match found.is_empty() {
        true => blocks.push(words("Nothing was found about the DEM that stands in the way of hydrology.")),
        false => blocks.extend(table(
            "findings",
            "What is known of the DEM as it stands now",
            &[("Finding", false), ("What it means", false)],
            found,
        )),
    }
    let done: Vec<String> =
        facts.terrain.iter().flat_map(|t| &t.done).map(|done| format!("DEM {done}.")).collect();
    if !done.is_empty() {
        blocks.push(words("How the DEM was prepared, always from the files as they were given:"));
        blocks.push(Block::List(done));
    }
    let Some(conditioned) = facts.routing.as_ref().and_then(|r| r.conditioned.as_ref()) else {
        blocks.push(words("The DEM has not been conditioned yet."));
        return Ok(blocks);
    };
    blocks.push(words("How it was conditioned, in this order:"));
    blocks.push(Block::List(conditioning_lines(facts, quantity::volume)));
    let rows = [("Ground surface", &conditioned.ground), ("Routing surface", &conditioned.routing)]
        .map(|(name, of)| moved_row(name, of));
    let heads = [("Surface", false), ("Cut", true), ("Deepest", true), ("Fill", true), ("Highest", true)];
    blocks.extend(table("cut_and_fill", "Cut and fill against the prepared DEM", &heads, rows.to_vec()));
    let caption = "Cut and fill: conditioned less prepared elevations";
    blocks.extend(map(from, facts, &["shade", "change", "streams"], caption).await?);
    Ok(blocks)
}

/// What was decided about each barrier.
pub(super) async fn crossings(from: SheetSources<'_>, facts: &Facts) -> Result<Vec<Block>> {
    let all: Vec<BarrierFacts> =
        from.store.barriers(facts.study).await?.iter().map(BarrierFacts::of).collect::<Result<_>>()?;
    if all.is_empty() {
        let told = match &facts.review {
            Some(review) if review.unseen => "Cells are too large to show barriers, and none was sought.",
            Some(_) => "No barrier was found.",
            None => "No barrier was sought.",
        };
        return Ok(vec![words(told)]);
    }
    let decided = |d: Option<Decision>| all.iter().filter(|b| b.decision == d).count();
    let count = |n: usize| quantity::whole(n as u64);
    let mut blocks = vec![words(format!(
        "Of {}, {} were breached, {} filled and {} kept; {} are open.",
        quantity::count(all.len() as u64, "proposed crossing", "proposed crossings"),
        count(decided(Some(Decision::Breach))),
        count(decided(Some(Decision::Fill))),
        count(decided(Some(Decision::Keep))),
        count(decided(None))
    ))];
    let row = |(n, b): (usize, &BarrierFacts)| {
        let decision = match b.decision {
            Some(Decision::Breach) if b.drawn => "breached along a line drawn by hand",
            Some(Decision::Breach) => "breached",
            Some(Decision::Fill) => "filled",
            Some(Decision::Keep) => "kept",
            None => "open",
        };
        vec![
            (n + 1).to_string(),
            format!("{:.0}, {:.0}", b.barrier.crest[0], b.barrier.crest[1]),
            format!("{:.2}", b.barrier.score),
            quantity::metres(b.barrier.sink_depth_m),
            quantity::metres(b.barrier.cut_m),
            quantity::area(b.barrier.contributing.as_m2()),
            decision.to_owned(),
        ]
    };
    let heads = [
        ("No.", true),
        ("Easting, northing", false),
        ("Score", true),
        ("Sink", true),
        ("Cut", true),
        ("Contributing area", true),
        ("Decision", false),
    ];
    let rows = all.iter().enumerate().map(row).collect();
    blocks.extend(table("crossings", "Crossings and what was decided", &heads, rows));
    blocks.extend(map(from, facts, &["relief", "streams", "barriers"], "Crossings by decision").await?);
    Ok(blocks)
}
