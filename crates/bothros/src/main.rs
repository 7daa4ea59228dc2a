//! `bothros`: serve, demo, worker, run, bench.

use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::atomic::{AtomicBool, Ordering};

use anyhow::Context;
use bothros::{bench, bench_site, demo, run, serve};
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
    },
    /// Measure the computation and print a table
    Bench {
        /// Edges of the square terrains, in cells
        #[arg(long, value_delimiter = ',', default_value = "2048,8192")]
        sizes: Vec<usize>,
        /// Edges of the terrains that go through the whole application
        #[arg(long, value_delimiter = ',', default_value = "1000,5000")]
        studies: Vec<usize>,
        /// Leave out the textbook's filling, which takes longest
        #[arg(long)]
        no_baseline: bool,
    },
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
    #[arg(long, default_value_t = 4000, env = "BOTHROS_UPLOAD_LIMIT_MB")]
    upload_limit_mb: u64,
    /// Use this PostgreSQL instead of an own one
    #[arg(long, env = "BOTHROS_DATABASE_URL")]
    database: Option<String>,
    /// Address of an elevation archive that speaks STAC; a simulated one where nothing is said
    #[arg(long, env = "BOTHROS_ARCHIVE_URL")]
    archive: Option<String>,
}

/// Set by Ctrl-C while a recipe runs.
static CANCELLED: AtomicBool = AtomicBool::new(false);

fn main() -> anyhow::Result<ExitCode> {
    let cli = Cli::parse();
    let filter = tracing_subscriber::EnvFilter::try_from_default_env()
        .or_else(|_| tracing_subscriber::EnvFilter::try_new("warn,sqlx=error,apalis=error"))?;
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).init();
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().context("starting")?;
    match cli.command {
        Command::Bench { sizes, studies, no_baseline } => {
            // The application first: its memory is the peak of this process.
            runtime.block_on(bench_site::run(&studies))?;
            bench::run(&sizes, !no_baseline)
        }
        Command::Run { recipe, out, overwrite } => {
            runtime.spawn(async {
                if tokio::signal::ctrl_c().await.is_ok() {
                    CANCELLED.store(true, Ordering::Relaxed);
                }
            });
            return Ok(run::run(&recipe, &out, overwrite, &CANCELLED));
        }
        Command::DemoFiles { directory } => demo::write(&directory),
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
            demo,
        }
    }
}
