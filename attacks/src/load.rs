//! Many readers, while flow is routed without pause.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bothros_store::{JobKind, Kept};
use rand::prelude::*;
use tokio::sync::Mutex;

use crate::site::{Report, Site, ended};

/// What is asked for: its name, how often of a hundred times, and within how many milliseconds 99 % must be answered.
const ASKED: [(&str, u32, u128); 4] =
    [("tile", 60, 250), ("cell", 20, 150), ("desk", 10, 400), ("streams", 10, 800)];

type Times = Arc<Mutex<BTreeMap<&'static str, Vec<Duration>>>>;
type Odd = Arc<Mutex<BTreeMap<String, u32>>>;

struct Reader {
    client: reqwest::Client,
    base: String,
    study: i64,
    edge: usize,
    times: Times,
    odd: Odd,
}

impl Reader {
    /// The map as a page asks for it: numbers of rasters, threshold.
    async fn map(&self) -> anyhow::Result<serde_json::Value> {
        Ok(self.client.get(format!("{}/studies/{}/map", self.base, self.study)).send().await?.json().await?)
    }

    async fn ask(&self, what: &'static str, path: String) -> anyhow::Result<()> {
        let begun = Instant::now();
        let answer = self.client.get(format!("{}/studies/{}{path}", self.base, self.study)).send().await?;
        let status = answer.status();
        let text = answer.bytes().await?;
        self.times.lock().await.entry(what).or_default().push(begun.elapsed());
        if !status.is_success() && status.as_u16() != 304 {
            let told: String = String::from_utf8_lossy(&text).chars().take(80).collect();
            *self.odd.lock().await.entry(format!("{status} {what} {told}")).or_default() += 1;
        }
        Ok(())
    }

    async fn read(self, until: Instant, seed: u64) -> anyhow::Result<()> {
        let mut random = rand::rngs::StdRng::seed_from_u64(seed);
        let mut map = self.map().await?;
        for turn in 0u32.. {
            if Instant::now() > until {
                break;
            }
            // A page looks anew when it hears of a change.
            if turn % 50 == 49 {
                map = self.map().await?;
            }
            let mut pick = random.random_range(0..100);
            let mut what = ASKED[0].0;
            for (name, share, _) in ASKED {
                if pick < share {
                    what = name;
                    break;
                }
                pick -= share;
            }
            let span = self.edge as f64 * 10.0;
            let (x, y) =
                (500_000.0 + random.random::<f64>() * span, 4_760_000.0 - random.random::<f64>() * span);
            let path = match what {
                "tile" => {
                    let layer = ["dem", "area", "direction"][random.random_range(0..3)];
                    let id = map["rasters"][layer]["id"].as_i64().unwrap_or(0);
                    let levels = map["rasters"][layer]["levels"].as_u64().unwrap_or(1) as u32;
                    let level = random.random_range(0..levels);
                    let tiles = (self.edge >> level).div_ceil(256).max(1);
                    let (col, row) = (random.random_range(0..tiles), random.random_range(0..tiles));
                    format!("/tiles/{layer}/{id}/{level}/{col}/{row}?low=0&high=1000")
                }
                "cell" => format!("/cell?x={x}&y={y}"),
                "desk" => {
                    let stage = ["terrain", "conditioning", "network", "catchments", "handover"];
                    format!("/desk/{}", stage[random.random_range(0..5)])
                }
                _ => {
                    let wide = span / f64::from(1 << random.random_range(0..4));
                    let cells = map["threshold_cells"].as_u64().unwrap_or(5000);
                    format!(
                        "/streams?west={x}&east={}&south={}&north={y}&resolution={}&cells={cells}",
                        x + wide,
                        y - wide,
                        wide / 900.0
                    )
                }
            };
            self.ask(what, path).await?;
        }
        Ok(())
    }
}

pub async fn attack(
    program: &Path,
    readers: usize,
    seconds: u64,
    edge: usize,
    report: &mut Report,
) -> anyhow::Result<()> {
    let dir = tempfile::Builder::new().prefix("bothros-attack-").tempdir()?;
    let mut site = Site::start(program, dir.path(), &[]).await?;
    let study = site.study(edge, "read").await?;
    let store = site.store().await?;
    store.enqueue(study, JobKind::Route, Kept::empty()).await?;
    ended(&store, study, Duration::from_secs(600)).await?;
    let until = Instant::now() + Duration::from_secs(seconds);
    let (times, odd) = (Times::default(), Odd::default());
    let mut tasks = Vec::new();
    for seed in 0..readers as u64 {
        let reader = Reader {
            client: reqwest::Client::builder().timeout(Duration::from_secs(60)).build()?,
            base: site.base.clone(),
            study,
            edge,
            times: Arc::clone(&times),
            odd: Arc::clone(&odd),
        };
        tasks.push(tokio::spawn(reader.read(until, seed)));
    }
    let mut routed = 0;
    while Instant::now() < until {
        store.enqueue(study, JobKind::Route, Kept::empty()).await?;
        let job = ended(&store, study, Duration::from_secs(600)).await?;
        routed += u32::from(job.state == "done");
    }
    let mut failed = 0;
    for task in tasks {
        failed += u32::from(!matches!(task.await, Ok(Ok(()))));
    }
    let mut times = times.lock().await;
    // Beside other work, or in a build for tests, times tell nothing.
    let timed = seconds >= 60;
    for (what, _, most) in ASKED {
        let all = times.entry(what).or_default();
        all.sort_unstable();
        let at =
            |p: f64| all.get(((all.len().max(1) - 1) as f64 * p) as usize).map_or(0, Duration::as_millis);
        let told = format!(
            "{} asked; ms at 50, 95, 99 %: {} / {} / {}, aim {most}",
            all.len(),
            at(0.5),
            at(0.95),
            at(0.99)
        );
        report.check(format!("{what}, {readers} readers"), !timed || at(0.99) <= most, told);
    }
    let odd = odd.lock().await;
    let told = odd.iter().map(|(what, n)| format!("{n} times {what}")).collect::<Vec<_>>().join("; ");
    report.check(
        "no answer but 200 or 304",
        odd.is_empty() && failed == 0,
        if told.is_empty() { format!("{failed} readers failed, {routed} times routed") } else { told },
    );
    // The start page with many studies.
    let tiny = site.study(60, "tiny").await?;
    for n in 0..200 {
        store.duplicate_study(tiny, &format!("tiny {n}")).await?;
    }
    site.client.get(&site.base).send().await?.bytes().await?;
    let begun = Instant::now();
    site.client.get(&site.base).send().await?.bytes().await?;
    let took = begun.elapsed();
    report.check(
        "start page of 200 studies",
        !timed || took < Duration::from_millis(200),
        format!("{:.3} s", took.as_secs_f64()),
    );
    report.check("the server still runs", site.runs(), format!("process {}", site.pid()));
    Ok(())
}
