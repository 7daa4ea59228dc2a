//! How long a recipe takes from files to files: step by step, and within little memory.

use bothros_core::{Coarser, Frame, Silent};
use bothros_demo::fractal_terrain;
use bothros_formats::{Crs, write_cog};
use bothros_recipe::{Bytes, Recipe, Summary};

/// Steps that are the core's own work, which all others are held against.
const CORE: [&str; 3] = ["conditioning", "finding flow directions", "accumulating flow"];

/// How the recipes of the bench begin, up to what is done about sinks.
pub(crate) const DEM_AND_CONDITIONING: &str = "version = 1\n[terrain]\ndem = [\"dem.tif\"]\n[conditioning]\n";

/// Runs a recipe on fractal terrain of each size, filled, routed by D8, with a network: as it is, and within four bytes a cell and
/// 200 MB of memory.
pub fn run(sizes: &[usize]) -> anyhow::Result<()> {
    let dir = tempfile::tempdir()?;
    for &size in sizes {
        let frame =
            Frame { rows: size, cols: size, left: 500_000.0, top: 4_760_000.0, cell_size: 10.0, unit_m: 1.0 };
        {
            let (path, dem) = (dir.path().join("dem.tif"), fractal_terrain(size, 7));
            let crs = Crs::parse("EPSG:32628")?;
            write_cog(&path, &dem, &frame, &crs, f32::NAN, Coarser::Mean, "elevation, metres", "m")?;
        }
        let recipe =
            format!("{DEM_AND_CONDITIONING}sinks = \"fill\"\n[network]\nthreshold = {{ area_km2 = 0.5 }}\n");
        let path = dir.path().join("recipe.toml");
        std::fs::write(&path, recipe)?;
        let mut recipe = Recipe::read(&path)?;
        let cells = (size * size) as u64;
        let least = Bytes((4 * cells + 200_000_000).next_multiple_of(1_000_000));
        for within in [None, Some(least)] {
            recipe.max_memory = within;
            // The kernel forgets the peak so far.
            let forgets = std::fs::write("/proc/self/clear_refs", "5").is_ok();
            let summary = bothros_recipe::run(&recipe, &dir.path().join("out"), true, &Silent)?;
            table(size, within, &summary, forgets);
        }
        crate::bench_shared::run(dir.path(), size)?;
    }
    Ok(())
}

fn table(size: usize, within: Option<Bytes>, summary: &Summary, forgets: bool) {
    let how = within.map_or(String::new(), |bytes| format!(", within {bytes} of memory"));
    println!("\na recipe of {size} x {size} cells, all files written{how}");
    let core: f64 = summary.steps.iter().filter(|s| CORE.contains(&s.step.as_str())).map(|s| s.seconds).sum();
    for step in &summary.steps {
        println!("  {:<48} {:>9.3}", step.step, step.seconds);
    }
    println!(
        "  {:<48} {:>9.3}, {:.1} times the core\u{2019}s own",
        "all",
        summary.seconds,
        summary.seconds / core
    );
    if forgets {
        let bytes = summary.peak_memory_bytes as f64;
        println!(
            "  memory at its peak: {:.2} GB, {:.1} bytes a cell",
            bytes / 1e9,
            bytes / (size * size) as f64
        );
    }
}
