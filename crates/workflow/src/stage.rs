//! The five stages of a study, in the order of the work.

use bothros_store::JobKind;

/// A stage. Its key names folders, addresses and map layers; its title stands on screens and in the log.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Stage {
    /// from the files given to a prepared DEM
    Terrain,
    /// sinks, barriers and streams on the DEM
    Conditioning,
    /// the threshold at which streams begin
    Network,
    /// what drains to pour points
    Catchments,
    /// results for others
    Handover,
}

impl Stage {
    /// All stages, in the order of the work.
    pub const ALL: [Self; 5] =
        [Self::Terrain, Self::Conditioning, Self::Network, Self::Catchments, Self::Handover];

    /// The name in addresses and folders.
    pub fn key(self) -> &'static str {
        match self {
            Self::Terrain => "terrain",
            Self::Conditioning => "conditioning",
            Self::Network => "network",
            Self::Catchments => "catchments",
            Self::Handover => "handover",
        }
    }

    /// The name for people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Terrain => "Terrain",
            Self::Conditioning => "Conditioning",
            Self::Network => "Network",
            Self::Catchments => "Catchments",
            Self::Handover => "Handover",
        }
    }

    /// What the stage is for, in one sentence.
    pub fn purpose(self) -> &'static str {
        match self {
            Self::Terrain => "From whatever was given to a DEM that can be computed on.",
            Self::Conditioning => "What is wrong with the DEM for water, mended and measured.",
            Self::Network => "The threshold at which streams begin.",
            Self::Catchments => "What drains to the places that matter.",
            Self::Handover => "The results in open formats, with all that was done.",
        }
    }

    /// The stage with a key; `None` if there is no such stage.
    pub fn from_key(key: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.key() == key)
    }

    /// The place in the order of the work, from 1.
    pub fn number(self) -> usize {
        self as usize + 1
    }

    /// The stage whose results a job makes.
    pub fn of(kind: JobKind) -> Self {
        match kind {
            JobKind::Fetch | JobKind::Import | JobKind::Prepare => Self::Terrain,
            JobKind::Layer | JobKind::Review | JobKind::Route => Self::Conditioning,
            JobKind::Realise => Self::Catchments,
            JobKind::Atlas => Self::Handover,
            JobKind::Follow => Self::Terrain,
            JobKind::RunTo => Self::Handover,
            JobKind::Package => Self::Handover,
        }
    }

    /// Whether the stage needs routed flow before it has anything to show.
    pub fn needs_flow(self) -> bool {
        self >= Self::Network
    }
}

impl std::fmt::Display for Stage {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.title())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_name_stages_and_nothing_else() {
        for (at, stage) in Stage::ALL.into_iter().enumerate() {
            assert_eq!(Stage::from_key(stage.key()), Some(stage));
            assert_eq!(stage.number(), at + 1);
            assert_eq!(stage.key(), stage.title().to_lowercase());
        }
        assert_eq!(Stage::from_key("Terrain"), None);
        assert_eq!(Stage::from_key(""), None);
    }
}
