//! Methods with their sources, limits, and the log.

use bothros_core::network::Begins;
use bothros_core::routing::Method;
use bothros_core::{Frame, Threshold};
use bothros_sheets::report::Block;
use bothros_store::Store;

use super::{table, words};
use crate::{Facts, Result, begins_told, quantity};

/// A threshold as area and cells.
pub(super) fn threshold(of: Threshold, frame: &Frame) -> String {
    format!(
        "{} ({} cells)",
        quantity::area(of.as_area(frame).as_m2()),
        quantity::whole(u64::from(of.as_cells()))
    )
}

/// What was computed and by which methods, that of the evidence among them where there is any; what the results cannot say.
pub(super) fn methods(facts: &Facts, evidence: bool) -> Vec<Block> {
    let mut methods = vec![
        "Flow directions: D8 (O’Callaghan and Mark 1984), flats after Garbrecht and Martz 1997.".to_owned(),
        "Orders after Strahler (1957) and Shreve (1966).".to_owned(),
    ];
    let method = facts.routing.as_ref().map_or(Method::D8, |r| r.method);
    match method {
        Method::D8 => {}
        Method::DInfinity => methods.push(
            "Accumulation: D-infinity (Tarboton 1997), carried down along D8, which joins the streams."
                .into(),
        ),
        Method::Mfd => methods
            .push("Accumulation: MFD (Freeman 1991), carried down along D8, which joins the streams.".into()),
    }
    if evidence {
        methods.push(
        "Evidence: constant stream drop (Tarboton, Bras and Rodriguez-Iturbe 1991), slope against area (Montgomery and Foufoula-Georgiou \
         1993), agreement in length with mapped streams within a tolerance (Heipke and others 1997)."
            .into(),
    );
    }
    let mut limits = Vec::new();
    if let (Some(terrain), Some(network)) = (&facts.terrain, facts.network) {
        let begins = facts.settings.beginning.begins;
        let by = match begins {
            Begins::Area => "contributing area".to_owned(),
            other => begins_told(other),
        };
        let told = threshold(network.threshold, &terrain.frame);
        methods.push(format!("Streams begin where {by} reaches {told}."));
        limits.push(format!(
            "Streams narrower than a cell of {} are drawn by what drains to them, not by what is seen of them.",
            quantity::size(terrain.frame.cell_m())
        ));
    }
    if facts.settings.conditioning.burn.is_some() {
        limits.push("Mapped streams were burned: agreement with them is no evidence.".into());
    }
    if method.divides() {
        limits.push(
            "Flow was divided: streams are the threads along which it gathers, and their banks mean nothing."
                .into(),
        );
    }
    limits.push(
        "Catchments and reaches whose land touches the edge of the DEM are least values, and are marked so."
            .into(),
    );
    if facts.uncertainty.is_none() {
        limits
            .push("How the error of the DEM carries through to divides and streams was not computed.".into());
    }
    vec![words("Methods:"), Block::List(methods), words("Limits:"), Block::List(limits)]
}

/// The log, the oldest line first.
pub(super) async fn log(store: &Store, study: i64) -> Result<Vec<Block>> {
    let rows: Vec<Vec<String>> = store
        .log_entries(study)
        .await?
        .into_iter()
        .rev()
        .map(|entry| vec![entry.at.format("%Y-%m-%d %H:%M").to_string(), entry.stage, entry.text])
        .collect();
    let heads = [("When, UTC", false), ("Stage", false), ("What", false)];
    let mut blocks: Vec<Block> = table("log", "What was done", &heads, rows).into_iter().collect();
    // An appendix is whole.
    if let Some(Block::Table(of)) = blocks.first_mut() {
        of.most = usize::MAX;
    }
    Ok(blocks)
}
