//! The application that is attacked, and what is said of it.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitCode, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context, bail};
use bothros_core::{Coarser, Frame, Grid};
use bothros_formats::{Crs, write_cog};
use bothros_store::{Job, Store};
use reqwest::multipart::{Form, Part};
use reqwest::{Client, StatusCode};

/// What was tried, and whether it held.
#[derive(Default)]
pub struct Report(Vec<(String, Result<String, String>)>);

impl Report {
    /// Says that something held, with figures.
    pub fn held(&mut self, what: impl Into<String>, figures: impl Into<String>) {
        self.add(what.into(), Ok(figures.into()));
    }
    /// Says that something did not hold, and how.
    pub fn broke(&mut self, what: impl Into<String>, how: impl Into<String>) {
        self.add(what.into(), Err(how.into()));
    }
    /// Says either, by a test.
    pub fn check(&mut self, what: impl Into<String>, held: bool, told: impl Into<String>) {
        match held {
            true => self.held(what, told),
            false => self.broke(what, told),
        }
    }
    fn add(&mut self, what: String, how: Result<String, String>) {
        let (mark, told) = match &how {
            Ok(told) => ("held ", told),
            Err(told) => ("BROKE", told),
        };
        println!("{mark}  {what}: {told}");
        self.0.push((what, how));
    }
    /// Prints how many held.
    pub fn print(&self) -> ExitCode {
        let broke = self.0.iter().filter(|(_, how)| how.is_err()).count();
        println!("\n{} tried, {} held, {broke} broke", self.0.len(), self.0.len() - broke);
        if broke == 0 { ExitCode::SUCCESS } else { ExitCode::FAILURE }
    }
}

/// An application in a directory of its own.
pub struct Site {
    program: PathBuf,
    pub data: PathBuf,
    options: Vec<String>,
    server: Option<Child>,
    pub base: String,
    pub client: Client,
    token: String,
}

impl Site {
    /// Starts it.
    pub async fn start(program: &Path, data: &Path, options: &[&str]) -> anyhow::Result<Self> {
        let mut site = Self {
            program: program.to_owned(),
            data: data.to_owned(),
            options: options.iter().map(|o| (*o).to_owned()).collect(),
            server: None,
            base: String::new(),
            client: Client::builder()
                .timeout(Duration::from_secs(120))
                .pool_idle_timeout(Duration::from_secs(5))
                .build()?,
            token: String::new(),
        };
        site.begin().await?;
        Ok(site)
    }

    /// Starts it again after it ended.
    pub async fn begin(&mut self) -> anyhow::Result<()> {
        let log =
            std::fs::OpenOptions::new().create(true).append(true).open(self.data.join("attacks.log"))?;
        let mut server = Command::new(&self.program)
            .args(["serve", "--port", "0", "--data"])
            .arg(&self.data)
            .args(&self.options)
            .stdout(Stdio::piped())
            .stderr(log)
            .spawn()?;
        let out = server.stdout.take().context("a server without output")?;
        let mut lines = BufReader::new(out).lines();
        let address = lines.by_ref().map_while(Result::ok).find(|l| l.contains("http://"));
        self.server = Some(server);
        let address = address.context("the server did not start; see attacks.log in its directory")?;
        // What it says later is not waited for.
        std::thread::spawn(move || lines.for_each(drop));
        let address = address.split_whitespace().last().unwrap_or_default().trim_end_matches('/');
        self.base = address.to_owned();
        let page = self.client.get(&self.base).send().await?;
        let cookie = page.headers().get("set-cookie").and_then(|c| c.to_str().ok()).unwrap_or_default();
        self.token = cookie.split(['=', ';']).nth(1).unwrap_or_default().to_owned();
        Ok(())
    }

    /// Whether the server runs.
    pub fn runs(&mut self) -> bool {
        self.server.as_mut().is_some_and(|s| matches!(s.try_wait(), Ok(None)))
    }

    /// The number of the server's process.
    pub fn pid(&self) -> i32 {
        self.server.as_ref().map_or(0, |s| s.id() as i32)
    }

    /// Kills the server at once.
    pub fn kill(&mut self) -> anyhow::Result<()> {
        if let Some(mut server) = self.server.take() {
            server.kill()?;
            server.wait()?;
        }
        Ok(())
    }

    /// Stops the server in good order; returns how long it took.
    pub fn stop(&mut self) -> anyhow::Result<Duration> {
        let begun = Instant::now();
        if let Some(mut server) = self.server.take() {
            nix::sys::signal::kill(
                nix::unistd::Pid::from_raw(server.id() as i32),
                nix::sys::signal::SIGTERM,
            )?;
            server.wait()?;
        }
        Ok(begun.elapsed())
    }

    /// The number of PostgreSQL's first process.
    pub fn postmaster(&self) -> anyhow::Result<i32> {
        let told = std::fs::read_to_string(self.data.join("cluster/postmaster.pid"))?;
        Ok(told.lines().next().unwrap_or_default().trim().parse()?)
    }

    /// The store behind it.
    pub async fn store(&self) -> anyhow::Result<Store> {
        Ok(Store::connect(std::fs::read_to_string(self.data.join("url"))?.trim()).await?)
    }

    /// A request that changes something.
    pub fn post(&self, path: &str) -> reqwest::RequestBuilder {
        self.client
            .post(format!("{}{path}", self.base))
            .header("Cookie", format!("bothros_token={}", self.token))
            .header("X-Bothros-Token", &self.token)
    }

    /// Sends a form.
    pub async fn send(&self, path: &str, fields: &[(&str, &str)]) -> anyhow::Result<(StatusCode, String)> {
        let answer = self.post(path).form(fields).send().await?;
        Ok((answer.status(), answer.text().await?))
    }

    /// Sends files.
    pub async fn upload(
        &self,
        path: &str,
        part: &str,
        files: &[(&str, Vec<u8>)],
        texts: &[(&str, &str)],
    ) -> anyhow::Result<(StatusCode, String)> {
        let mut form = Form::new();
        for (name, text) in texts {
            form = form.text((*name).to_owned(), (*text).to_owned());
        }
        for (name, bytes) in files {
            form = form.part(part.to_owned(), Part::bytes(bytes.clone()).file_name((*name).to_owned()));
        }
        let answer = self.post(path).multipart(form).send().await?;
        Ok((answer.status(), answer.text().await?))
    }

    /// Makes a study of rough ground and waits until it is read.
    pub async fn study(&self, edge: usize, name: &str) -> anyhow::Result<i64> {
        let bytes = rough(edge, &self.data)?;
        let (status, told) =
            self.upload("/studies", "dem", &[("rough.tif", bytes)], &[("name", name)]).await?;
        if status != StatusCode::OK {
            bail!("no study: {status} {told}");
        }
        let told: serde_json::Value = serde_json::from_str(&told)?;
        let id = told["location"].as_str().and_then(|l| l.split('/').nth(2)).context("no study")?.parse()?;
        let store = self.store().await?;
        let job = ended(&store, id, Duration::from_secs(600)).await?;
        if job.state != "done" {
            bail!("not read: {}", job.message);
        }
        Ok(id)
    }
}

impl Drop for Site {
    fn drop(&mut self) {
        // Whatever happened, PostgreSQL is stopped with it.
        if let Err(error) = self.stop() {
            eprintln!("the server could not be stopped: {error}");
        }
    }
}

/// A GeoTIFF of rough ground.
pub fn rough(edge: usize, dir: &Path) -> anyhow::Result<Vec<u8>> {
    let path = dir.join(format!("rough_{edge}.tif"));
    if !path.exists() {
        let dem: Grid<f32> = bothros_demo::fractal_terrain(edge, 9);
        let frame =
            Frame { rows: edge, cols: edge, left: 500_000.0, top: 4_760_000.0, cell_size: 10.0, unit_m: 1.0 };
        write_cog(&path, &dem, &frame, &Crs::parse("EPSG:32628")?, f32::NAN, Coarser::Mean, "", "m")?;
    }
    Ok(std::fs::read(path)?)
}

/// Waits until the last job of a study has ended.
pub async fn ended(store: &Store, study: i64, most: Duration) -> anyhow::Result<Job> {
    let begun = Instant::now();
    loop {
        let job = match store.last_job(study).await {
            Ok(job) => job.context("no job")?,
            // The database may be away.
            Err(_) if begun.elapsed() < most => {
                tokio::time::sleep(Duration::from_millis(200)).await;
                continue;
            }
            Err(error) => return Err(error.into()),
        };
        if !job.is_active() {
            return Ok(job);
        }
        if begun.elapsed() > most {
            bail!(
                "the job “{}” has not ended after {} s: {} {}",
                job.title(),
                most.as_secs(),
                job.state,
                job.message
            );
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}
