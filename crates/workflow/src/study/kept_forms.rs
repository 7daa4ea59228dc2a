//! The forms of what is kept as JSON, each with its version, and the way up from earlier ones.
//!
//! Version 0 is all that was kept before forms had versions. A field that came later has a default where it is
//! declared, or is given here.

use bothros_core::conditioning::Barrier;
use bothros_store::Versioned;
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};

use crate::{
    CatchmentFacts, Fetch, NetworkFacts, NewLayer, PicturePlace, Preparing, RealiseChoice, ReviewFacts,
    RoutingFacts, Settings, SourceFacts, TerrainFacts, TrialFacts, UncertaintyFacts,
};

/// How files are read again.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Reread {
    /// whether what was chosen for them stays
    pub keep: bool,
}

/// A barrier as the core found it.
#[derive(Debug, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct KeptBarrier(pub Barrier);

/// How a DEM is to be prepared.
#[derive(Debug, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct KeptPreparing(pub Preparing);

/// Forms that only gained fields with defaults.
macro_rules! versioned {
    ($($of:ty: $what:literal;)*) => {$(
        impl Versioned for $of {
            const WHAT: &'static str = $what;
        }
    )*};
}

versioned! {
    SourceFacts: "what is known of the DEM's files";
    TerrainFacts: "what is known of the DEM";
    RoutingFacts: "what is known of the flow";
    NetworkFacts: "what is known of the network";
    Settings: "the study's choices";
    CatchmentFacts: "what is known of a catchment";
    TrialFacts: "a trial";
    PicturePlace: "the place of a picture";
    KeptPreparing: "how the DEM is to be prepared";
    NewLayer: "which layer is to be read";
    Fetch: "what is to be fetched";
    Reread: "how the DEM is to be read";
    KeptBarrier: "a barrier";
    RealiseChoice: "which realisations are to be made";
    UncertaintyFacts: "what realisations showed";
}

impl Versioned for ReviewFacts {
    const WHAT: &'static str = "what the review found";
    fn up(from: u64, mut document: Json) -> Json {
        // The first reviews did not tell how much runoff fills a sink.
        if from == 0 && document.get("runoff_mm").is_none() {
            document["runoff_mm"] = json!([]);
        }
        document
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_store::kept::read;

    #[test]
    fn the_first_reviews_are_read() {
        let first = json!({
            "sinks": { "sinks": 0, "cells_raised": 0, "cells": 0, "volume_m3": 0.0, "largest": [], "deepest": null },
            "through_sinks": 0.0, "barriers": 0, "took_s": 1.5
        });
        let review: ReviewFacts = read(first).unwrap();
        assert!(review.runoff_mm.is_empty() && review.took_s == 1.5);
    }
}
