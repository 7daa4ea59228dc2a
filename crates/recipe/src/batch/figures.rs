//! Key figures of runs, side by side: the columns of runs.csv.

use serde_json::Value;

/// Key figures of a run: the column, and where summary.json tells it.
const FIGURES: [(&str, &str); 13] = [
    ("cells", "/cells"),
    ("cell_size_m", "/cell_size_m"),
    ("sinks_before", "/sinks/before"),
    ("sinks_after", "/sinks/after"),
    ("cut_m3", "/cut_and_fill/cut_m3"),
    ("fill_m3", "/cut_and_fill/fill_m3"),
    ("largest_contributing_area_km2", "/largest_contributing_area_km2"),
    ("threshold_km2", "/network/threshold_km2"),
    ("reaches", "/network/reaches"),
    ("headwaters", "/network/headwaters"),
    ("network_km", "/network/length_km"),
    ("drainage_density_km_per_km2", "/network/drainage_density"),
    ("peak_memory_bytes", "/peak_memory_bytes"),
];

/// A run as runs.csv tells it.
#[derive(Debug, Clone, PartialEq)]
pub struct RunRow {
    /// its name
    pub name: String,
    /// keys that are its own, with their values as text
    pub own: Vec<(String, String)>,
    /// `done`, `failed`, `waiting` and the like
    pub state: String,
    /// wall time, once it has ended
    pub seconds: Option<f64>,
    /// its summary.json, where it is done
    pub summary: Value,
    /// why it failed
    pub why: String,
}

impl RunRow {
    /// A key figure by the name of its column; nothing where the run tells none.
    pub fn figure(&self, column: &str) -> Option<f64> {
        let at = FIGURES.iter().find(|(name, _)| *name == column)?.1;
        self.summary.pointer(at)?.as_f64()
    }
}

/// runs.csv: each run with its own keys, its state, time and key figures. `keys` are those that differ between runs.
///
/// # Errors
/// Those of writing CSV.
pub fn runs_csv(keys: &[String], rows: &[RunRow]) -> Result<Vec<u8>, csv::Error> {
    let mut csv = csv::Writer::from_writer(Vec::new());
    let figures = FIGURES.iter().map(|(name, _)| *name);
    let heads = std::iter::once("run")
        .chain(keys.iter().map(String::as_str))
        .chain(["state", "seconds"])
        .chain(figures)
        .chain(["catchments", "catchments_km2", "why"]);
    csv.write_record(heads)?;
    for row in rows {
        let told = |at: &str| {
            row.summary.pointer(at).filter(|v| !v.is_null()).map_or(String::new(), ToString::to_string)
        };
        let catchments = row.summary["catchments"].as_array();
        let areas =
            catchments.map(|all| all.iter().filter_map(|c| c["area_km2"].as_f64()).map(|a| a.to_string()));
        let own =
            |key: &String| row.own.iter().find(|(k, _)| k == key).map_or(String::new(), |(_, v)| v.clone());
        let mut out = vec![row.name.clone()];
        out.extend(keys.iter().map(own));
        out.push(row.state.clone());
        out.push(row.seconds.map_or(String::new(), |s| format!("{s:.3}")));
        out.extend(FIGURES.iter().map(|(_, at)| told(at)));
        out.push(catchments.map_or(String::new(), |all| all.len().to_string()));
        out.push(areas.map_or(String::new(), |all| all.collect::<Vec<_>>().join(" ")));
        out.push(row.why.clone());
        csv.write_record(&out)?;
    }
    csv.into_inner().map_err(|e| e.into_error().into())
}
