//! `bothros`: serve, demo, worker, run, bench.

use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::atomic::{AtomicBool, Ordering};

use anyhow::Context;
use bothros::scratch::Scratch;
use bothros::{apart, backup, batch, bench, bench_recipe, bench_site, demo, limits, prove, run, serve};
use bothros_core::runoff::StormShape;
use bothros_proof::Settings;
use bothros_workflow::Sharing;
use clap::{Args, Parser, Subcommand};

#[derive(Parser)]
#[command(
    name = "bothros",
    version,
    about = "A DEM made fit for hydrology: sinks, flow, streams, catchments"
)]
struct Cli {
    #[command(subcommand)]
    command: Command,
    /// Most memory that work on one study may take, megabytes; by default three quarters of the machine's
    #[arg(long, global = true, env = "BOTHROS_MEMORY_MB")]
    memory_mb: Option<u64>,
    /// room in memory for the grids of studies that are worked on, MB; 734 by default, or an eighth of the memory
    /// where that is more. A larger study is kept alone.
    #[arg(long, global = true, env = "BOTHROS_GRIDS_MB", value_name = "N")]
    grids_mb: Option<u64>,
    /// Most memory that this process may hold, as in 4GB; what does not fit lies on disk meanwhile. Of a recipe it goes before its own
    #[arg(long, global = true, env = "BOTHROS_MAX_MEMORY", value_name = "SIZE")]
    max_memory: Option<bothros_recipe::Bytes>,
    /// Where workers share the breaching, filling and routing of large studies: a directory that all of them reach, or s3://bucket/prefix
    #[arg(long, global = true, env = "BOTHROS_SHARE_ROUTING", value_name = "PLACE")]
    share_routing: Option<String>,
    /// Cells from which a study is large enough to be shared
    #[arg(
        long,
        global = true,
        default_value_t = 50_000_000,
        env = "BOTHROS_SHARE_FROM_CELLS",
        value_name = "N"
    )]
    share_from_cells: u64,
    /// Most memory that reading one file may take, megabytes
    #[arg(long, global = true, default_value_t = 3000, env = "BOTHROS_READER_MEMORY_MB")]
    reader_memory_mb: u64,
}

#[derive(Subcommand)]
enum Command {
    /// Start the application
    Serve(ServeArgs),
    /// Start the application with the demo scenario
    Demo(ServeArgs),
    /// Work on the jobs of a running application, from this or another machine
    Worker {
        /// Address of the database, as the file “url” in the data directory tells it
        #[arg(long, env = "BOTHROS_DATABASE_URL")]
        database: String,
    },
    /// Write the files of the demo scenario
    DemoFiles {
        /// Directory to write to
        directory: PathBuf,
    },
    /// Run a recipe from files to files, without a database
    Run {
        /// The recipe, a TOML file
        recipe: PathBuf,
        /// Directory for the results; it appears when all is done
        #[arg(long)]
        out: PathBuf,
        /// Replace the directory where it exists
        #[arg(long)]
        overwrite: bool,
        /// Share breaching, filling and routing with others that are started with the same recipe: a directory that all reach, or
        /// s3://bucket/prefix
        #[arg(long, value_name = "PLACE")]
        share: Option<String>,
    },
    /// Run a recipe over many DEMs, thresholds, methods: each a run of its own, with a table of all
    Batch {
        /// The batch, a TOML file
        batch: PathBuf,
        /// Directory for the results, a folder for each run; another process can work in the same one
        #[arg(long)]
        out: PathBuf,
        /// Run again what failed before
        #[arg(long)]
        again: bool,
        /// List the runs, and run none
        #[arg(long)]
        plan: bool,
    },
    /// Route a storm through a package, to prove that it is complete and consistent
    Prove {
        /// The package, a zip or the directory that it was unpacked to
        package: PathBuf,
        /// Depth of the storm, millimetres
        #[arg(long, default_value_t = 60.0)]
        rain_mm: f64,
        /// Duration of the storm, hours
        #[arg(long, default_value_t = 6.0)]
        duration_h: f64,
        /// Rain of the same intensity throughout, in place of a triangular storm
        #[arg(long)]
        uniform: bool,
        /// Time step, minutes
        #[arg(long, default_value_t = 5.0)]
        step_min: f64,
        /// Length of the run, hours
        #[arg(long, default_value_t = 48.0)]
        hours: f64,
        /// Another package, whose peaks are compared
        #[arg(long, value_name = "PACKAGE")]
        compare: Option<PathBuf>,
    },
    /// Write all studies into one file, while the application runs or not
    Backup {
        /// The file; it appears when it is whole
        file: PathBuf,
        #[command(flatten)]
        place: Place,
    },
    /// Put a backup in the place of all studies; what was there is kept aside
    Restore {
        /// The file that `backup` wrote
        file: PathBuf,
        #[command(flatten)]
        place: Place,
    },
    /// Work on one job for another process of Bothros
    #[command(hide = true)]
    OneJob {
        /// Its number
        id: i64,
        #[arg(long, env = "BOTHROS_DATABASE_URL")]
        database: String,
    },
    /// Read one file for another process of Bothros, which asks on standard input
    #[command(hide = true)]
    ReadFile,
    /// Measure the computation and print a table
    Bench {
        /// Edges of the square terrains, in cells
        #[arg(long, value_delimiter = ',', default_value = "2048,8192")]
        sizes: Vec<usize>,
        /// Edges of the terrains that go through the whole application
        #[arg(long, value_delimiter = ',', default_value = "1000,5000")]
        studies: Vec<usize>,
        /// Edges of the terrains that a recipe is run on
        #[arg(long, value_delimiter = ',', default_value = "8192")]
        recipes: Vec<usize>,
        /// Leave out published ways of filling, which take longest
        #[arg(long)]
        no_baseline: bool,
    },
}

/// Where studies are kept.
#[derive(Args)]
struct Place {
    /// Directory of the application's own PostgreSQL
    #[arg(long, env = "BOTHROS_DATA")]
    data: Option<PathBuf>,
    /// Another PostgreSQL instead of an own one
    #[arg(long, env = "BOTHROS_DATABASE_URL")]
    database: Option<String>,
}

#[derive(Args)]
struct ServeArgs {
    /// Port; a free one near it is taken where it is in use
    #[arg(long, default_value_t = 7425, env = "BOTHROS_PORT")]
    port: u16,
    /// Address to listen on
    #[arg(long, default_value = "127.0.0.1", env = "BOTHROS_HOST")]
    host: std::net::IpAddr,
    /// Directory of the application's own PostgreSQL
    #[arg(long, env = "BOTHROS_DATA")]
    data: Option<PathBuf>,
    /// Largest upload, megabytes
    #[arg(long, default_value_t = 20_000, env = "BOTHROS_UPLOAD_LIMIT_MB")]
    upload_limit_mb: u64,
    /// Use this PostgreSQL instead of an own one
    #[arg(long, env = "BOTHROS_DATABASE_URL")]
    database: Option<String>,
    /// Let everybody who reaches an address beyond loopback do everything
    #[arg(long, env = "BOTHROS_OPEN_TO_ALL")]
    open_to_all: bool,
    /// Address of an elevation archive that speaks STAC; a simulated one by default
    #[arg(long, env = "BOTHROS_ARCHIVE_URL")]
    archive: Option<String>,
    /// TOML file that lists the map servers whose pictures can lie behind the map; a simulated one by default
    #[arg(long, env = "BOTHROS_MAPS", value_name = "FILE")]
    maps: Option<PathBuf>,
}

/// Set by Ctrl-C while a recipe runs.
static CANCELLED: AtomicBool = AtomicBool::new(false);

fn main() -> anyhow::Result<ExitCode> {
    // SAFETY: nothing was begun before, and no handler is set.
    #[allow(unsafe_code)]
    unsafe {
        bothros_formats::settle();
        // A file that may not grow any more is told as any other trouble with a disk, and ends nothing.
        nix::sys::signal::signal(nix::sys::signal::SIGXFSZ, nix::sys::signal::SigHandler::SigIgn)?;
    }
    let cli = Cli::parse();
    if matches!(cli.command, Command::ReadFile) {
        return Ok(bothros_formats::serve_reader());
    }
    let filter = tracing_subscriber::EnvFilter::try_from_default_env()
        .or_else(|_| tracing_subscriber::EnvFilter::try_new("warn,sqlx=error,apalis=error"))?;
    tracing_subscriber::fmt()
        // A log on a full disk must not end what is logged.
        .log_internal_errors(false)
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        .init();
    limits::apply(cli.memory_mb, cli.reader_memory_mb)?;
    limits::set_room_for_grids(cli.grids_mb);
    limits::set_most_memory(cli.max_memory);
    if let Some(place) = &cli.share_routing {
        let from_cells = cli.share_from_cells;
        bothros_workflow::share_routing(Sharing { place: place.clone(), from_cells })?;
    }
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().context("starting")?;
    match cli.command {
        Command::ReadFile => Ok(()),
        Command::Bench { sizes, studies, recipes, no_baseline } => {
            // The application first: its memory is the peak of this process.
            runtime.block_on(bench_site::run(&studies))?;
            bench_recipe::run(&recipes)?;
            bench::run(&sizes, !no_baseline)
        }
        Command::Run { recipe, out, overwrite, share } => {
            let _scratch = Scratch::begin(None)?;
            runtime.block_on(async { serve::heed_stop() });
            runtime.spawn(async {
                serve::stop_asked().await;
                CANCELLED.store(true, Ordering::Relaxed);
            });
            let how = run::How { overwrite, max_memory: cli.max_memory, share };
            return Ok(run::run(&recipe, &out, how, &CANCELLED));
        }
        Command::Batch { batch, out, again, plan } => {
            let _scratch = Scratch::begin(None)?;
            runtime.block_on(async { serve::heed_stop() });
            runtime.spawn(async {
                serve::stop_asked().await;
                CANCELLED.store(true, Ordering::Relaxed);
            });
            return Ok(batch::run(&batch, &out, again, plan, &CANCELLED));
        }
        Command::Prove { package, rain_mm, duration_h, uniform, step_min, hours, compare } => {
            let shape = if uniform { StormShape::Uniform } else { StormShape::Triangular };
            let settings = Settings { rain_mm, duration_h, shape, step_min, hours, ..Settings::default() };
            return Ok(prove::run(&package, &settings, compare.as_deref()));
        }
        Command::DemoFiles { directory } => demo::write(&directory),
        Command::Backup { file, place } => {
            let data = place.data.unwrap_or_else(serve::default_data_directory);
            backup::write(&data, place.database, &file)
        }
        Command::Restore { file, place } => {
            let data = place.data.unwrap_or_else(serve::default_data_directory);
            runtime.block_on(backup::put_back(&data, place.database, &file))
        }
        Command::OneJob { id, database } => {
            let scratch = Scratch::begin(None)?;
            let _limit = limits::hold(scratch.path())?;
            runtime.block_on(apart::run(&database, id))
        }
        Command::Worker { database } => runtime.block_on(serve::worker(&database)),
        Command::Serve(args) => runtime.block_on(serve::run(args.settings(false))),
        Command::Demo(args) => runtime.block_on(serve::run(args.settings(true))),
    }?;
    Ok(ExitCode::SUCCESS)
}

impl ServeArgs {
    fn settings(self, demo: bool) -> serve::Settings {
        serve::Settings {
            port: self.port,
            host: self.host,
            data: self.data.unwrap_or_else(serve::default_data_directory),
            upload_limit: self.upload_limit_mb * 1_000_000,
            database: self.database,
            archive: self.archive,
            maps: self.maps,
            demo,
            open_to_all: self.open_to_all,
        }
    }
}
