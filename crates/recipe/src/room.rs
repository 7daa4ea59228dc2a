//! Memory and disk that a run may take, told before it takes them.

use std::path::{Path, PathBuf};

use bothros_core::memory::Step;
use bothros_spill::Limit;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::{Conditioning, Error, Recipe, Result, Routing, Sinks};

/// Disk that a run with a limit takes for what does not fit memory, bytes a cell.
const ON_DISK: u64 = 32;
/// Memory that a run with a limit takes all the same, bytes a cell, and beside that bytes.
const ALL_THE_SAME: (f64, u64) = (1.0, 200_000_000);

/// A size in bytes, written as `4GB`, `900 MB` or `1.5 GiB`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bytes(pub u64);

/// Units of bytes.
const UNITS: [(&str, f64); 8] = [
    ("KiB", 1024.0),
    ("MiB", 1_048_576.0),
    ("GiB", 1_073_741_824.0),
    ("TiB", 1_099_511_627_776.0),
    ("kB", 1e3),
    ("MB", 1e6),
    ("GB", 1e9),
    ("TB", 1e12),
];

impl std::str::FromStr for Bytes {
    type Err = String;

    fn from_str(text: &str) -> std::result::Result<Self, String> {
        let text = text.trim();
        let wrong = || format!("“{text}” is no size: write it as in \"4GB\" or \"900MB\"");
        let split = |(unit, bytes): &(&str, f64)| {
            let (number, end) = text.split_at_checked(text.len().checked_sub(unit.len())?)?;
            end.eq_ignore_ascii_case(unit).then_some((number, *bytes))
        };
        let (number, bytes) = UNITS.iter().find_map(split).ok_or_else(wrong)?;
        let number: f64 = number.trim().parse().map_err(|_| wrong())?;
        match number.is_finite() && number > 0.0 && number * bytes < 1e18 {
            true => Ok(Self((number * bytes).round() as u64)),
            false => Err(wrong()),
        }
    }
}

impl std::fmt::Display for Bytes {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.0 {
            bytes if bytes % 1_000_000_000 == 0 => write!(f, "{}GB", bytes / 1_000_000_000),
            bytes if bytes % 1_000_000 == 0 => write!(f, "{}MB", bytes / 1_000_000),
            bytes => write!(f, "{}kB", bytes as f64 / 1e3),
        }
    }
}

impl Serialize for Bytes {
    fn serialize<S: Serializer>(&self, to: S) -> std::result::Result<S::Ok, S::Error> {
        to.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Bytes {
    fn deserialize<D: Deserializer<'de>>(from: D) -> std::result::Result<Self, D::Error> {
        String::deserialize(from)?.parse().map_err(serde::de::Error::custom)
    }
}

/// Whether a recipe fills sinks, routes by D8 and draws a network, and does no more.
fn is_plain(recipe: &Recipe) -> bool {
    let fills = Conditioning { sinks: Sinks::Fill, ..Conditioning::default() };
    let routed = Routing::default();
    recipe.conditioning.as_ref().is_none_or(|c| *c == fills)
        && recipe.routing.as_ref().is_none_or(|r| *r == routed)
        && recipe.catchments.is_none()
        && recipe.handover.is_none()
        && recipe.derived.is_empty()
        && !recipe.has_pages()
}

/// What a run may take.
pub(crate) struct Room {
    /// what it does where there is no limit of its own
    step: Step,
    /// most memory, and the directory of what does not fit it; none where a run takes what the program may
    within: Option<(Bytes, PathBuf, Limit)>,
}

impl Room {
    /// Takes up a recipe's limit; what does not fit memory goes to files in a directory.
    pub fn begin(recipe: &Recipe, directory: &Path) -> Result<Self> {
        let step = if is_plain(recipe) { Step::PlainRecipe } else { Step::Recipe };
        let Some(bytes) = recipe.max_memory else { return Ok(Self { step, within: None }) };
        // Where the process as a whole is held to a limit, that of a run is not its own to set.
        if bothros_core::memory::is_on_disk() {
            return Ok(Self { step, within: None });
        }
        let limit = Limit::begin(directory, bytes.0).map_err(|e| Error::key("max_memory", e))?;
        Ok(Self { step, within: Some((bytes, directory.to_owned(), limit)) })
    }

    /// Refuses a DEM of so many cells that there is no room for.
    pub fn check(&self, cells: u64) -> Result<()> {
        let Some((bytes, directory, _)) = &self.within else {
            return self.step.check(cells).map_err(|e| {
                Error::data("terrain.dem", format!("{e}; or let what does not fit lie on disk: max_memory"))
            });
        };
        let least = (cells as f64 * ALL_THE_SAME.0) as u64 + ALL_THE_SAME.1;
        if least > bytes.0 {
            let what = format!(
                "{bytes} are too little for a DEM of {cells} cells: allow {} at least",
                Bytes(least.next_multiple_of(100_000_000))
            );
            return Err(Error::key("max_memory", what));
        }
        let there = bothros_spill::room(directory).map_err(|e| Error::write(directory, e))?;
        let needed = cells.saturating_mul(ON_DISK);
        match needed <= there {
            true => Ok(()),
            false => Err(Error::write(
                directory,
                format!(
                    "what does not fit memory would take about {:.1} GB of disk, and {:.1} GB are free there",
                    needed as f64 / 1e9,
                    there as f64 / 1e9
                ),
            )),
        }
    }

    /// What should be known of how it went.
    pub fn note(&self) -> Option<String> {
        let (bytes, _, limit) = self.within.as_ref()?;
        limit.was_refused().then(|| {
            format!(
                "the disk could not take all that was to lie on it: more than {bytes} of memory were used"
            )
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_read_and_written() {
        for (text, bytes) in [
            ("4GB", 4_000_000_000),
            ("900 MB", 900_000_000),
            ("1.5gib", 1_610_612_736),
            ("2 TB", 2_000_000_000_000),
            ("12.5kB", 12_500),
        ] {
            let read: Bytes = text.parse().unwrap();
            assert_eq!(read.0, bytes, "{text}");
            assert_eq!(read.to_string().parse::<Bytes>().unwrap(), read);
        }
        for wrong in ["", "4", "GB", "-1GB", "0MB", "4 GBs", "1e30TB", "NaNGB", "4\u{212a}B", "四"] {
            assert!(wrong.parse::<Bytes>().is_err(), "{wrong}");
        }
    }
}
