//! Several processes' parts in one: threads that know nothing of each other but the place that they share.
#![allow(clippy::unwrap_used)]

mod object_store_stand_in;

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use bothros_core::conditioning::{BreachLimits, bottoms, breach, fill_to_outlets};
use bothros_core::routing::{
    Division, MFD_EXPONENT, dinf_accumulation, dinf_directions, flow_accumulation,
    flow_directions_to_outlets, mfd_accumulation,
};
use bothros_core::{Frame, Grid, Monitor, Silent};
use bothros_joint::{Breaching, Computed, Error, Ground, Joint, Outcome, Terms, Ways, Works};

/// Rough land with flats, lakes that reach over many rows, and a hole.
fn land(rows: usize, cols: usize) -> Grid<f32> {
    let mut state = 7u32;
    Grid::from_fn(rows, cols, |c| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        let valley = (c.col as f32 - cols as f32 / 2.0).abs() / 8.0;
        let rough = (state >> 28) as f32;
        match (c.row, c.col) {
            (row, col) if (40..50).contains(&row) && (10..14).contains(&col) => f32::NAN,
            (row, _) if row + 1 == rows => 60.0,
            _ => (valley + rough / 3.0).floor(),
        }
    })
}

/// Memory for half of the bands of the land below.
const ROOM: u64 = 60_000;

fn terms(program: &str, work: &str) -> Terms {
    Terms { program: program.into(), work: work.into(), cells_at_once: 900 }
}

fn join(place: &str) -> Joint {
    Joint::join(place, terms("1", "w"), ROOM, |_| unreachable!("the work is the same")).unwrap()
}

fn ground(dem: &Grid<f32>) -> Ground {
    ground_with(dem, plain())
}

fn ground_with(dem: &Grid<f32>, ways: Ways) -> Ground {
    let beside = vec![Grid::from_fn(dem.rows(), dem.cols(), |c| c.row as f32)];
    let told = serde_json::json!({ "where": "here" });
    Ground { surface: dem.clone(), ways, breaching: None, beside, told }
}

/// All sinks are filled, and flow is routed by D8 alone.
fn plain() -> Ways {
    Ways { fills: true, open: Vec::new(), division: None }
}

/// How far sinks are breached.
const LIMITS: BreachLimits = BreachLimits { length_m: Some(4.0), depth_m: None };

fn frame(dem: &Grid<f32>) -> Frame {
    Frame { rows: dem.rows(), cols: dem.cols(), left: 0.0, top: 0.0, cell_size: 1.0, unit_m: 1.0 }
}

fn ground_breached(dem: &Grid<f32>, ways: Ways) -> Ground {
    let mut sinks = bottoms(dem, &Silent).unwrap();
    sinks.retain(|sink| !ways.open.contains(sink));
    let breaching = Breaching { frame: frame(dem), limits: LIMITS, sinks };
    Ground { breaching: Some(breaching), ..ground_with(dem, ways) }
}

fn bits(grid: &Grid<f32>) -> Vec<u32> {
    grid.values().iter().map(|z| z.to_bits()).collect()
}

/// What was computed is what one process computes from the whole.
fn holds_the_same(computed: &Computed, dem: &Grid<f32>) {
    let Ways { fills, open, division } = &computed.ways;
    let breached = computed.breached.as_ref().map(|(ground, report)| {
        let whole = breach(dem, &frame(dem), open, LIMITS, &Silent).unwrap();
        assert_eq!((bits(ground), report), (bits(&whole.0), &whole.1));
        whole.0
    });
    let dem_cut = breached.as_ref().unwrap_or(dem);
    let filled = fills.then(|| fill_to_outlets(dem_cut, open, &Silent).unwrap());
    let surface = filled.as_ref().unwrap_or(dem_cut);
    let directions = flow_directions_to_outlets(surface, open, &Silent).unwrap();
    assert_eq!(bits(&computed.surface), bits(dem));
    assert_eq!(computed.filled.as_ref().map(bits), filled.as_ref().map(bits));
    assert_eq!(computed.directions, directions);
    assert_eq!(computed.accumulation, flow_accumulation(&directions, &Silent).unwrap());
    let mut angles = None;
    let divided = division.map(|division| match division {
        Division::DInfinity => {
            let found = dinf_directions(surface, &directions, &Silent).unwrap();
            let sums = dinf_accumulation(&directions, &found, None, &Silent).unwrap();
            angles = Some(found);
            sums
        }
        Division::Mfd { exponent } => {
            mfd_accumulation(surface, &directions, exponent, None, &Silent).unwrap()
        }
    });
    let sums = |grid: &Grid<f64>| grid.values().iter().map(|sum| sum.to_bits()).collect::<Vec<_>>();
    assert_eq!(computed.divided.as_ref().map(sums), divided.as_ref().map(sums));
    assert_eq!(computed.angles.as_ref().map(bits), angles.as_ref().map(bits));
    assert_eq!(computed.beside, ground(dem).beside);
    assert_eq!(computed.told["where"], "here");
}

/// Works in a place until all is done; what it computed, if it was the one to finish.
fn work(place: &str, ground: &Ground, prepared: &AtomicUsize) -> Option<Computed> {
    let mut joint = join(place);
    let prepare = |_: &dyn Monitor| {
        prepared.fetch_add(1, Ordering::Relaxed);
        Ok::<_, Error>(ground.clone())
    };
    match joint.work(prepare, &|_| (), &Silent).unwrap() {
        Outcome::Mine(computed) => {
            joint.done("it is done").unwrap();
            Some(*computed)
        }
        Outcome::Done(told) => {
            assert_eq!(told, "it is done");
            None
        }
    }
}

fn several_work_in(place: &str, ground: &Ground) {
    let prepared = AtomicUsize::new(0);
    let done: Vec<Option<Computed>> = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..3).map(|_| scope.spawn(|| work(place, ground, &prepared))).collect();
        workers.into_iter().map(|worker| worker.join().unwrap()).collect()
    });
    let mine: Vec<&Computed> = done.iter().flatten().collect();
    assert_eq!((mine.len(), prepared.load(Ordering::Relaxed)), (1, 1), "each thing is done once");
    assert_eq!(mine[0].ways, ground.ways);
    assert_eq!(mine[0].breached.is_some(), ground.breaching.is_some());
    holds_the_same(mine[0], &ground.surface);
    // Who comes late is told.
    assert!(work(place, ground, &prepared).is_none());
}

#[test]
fn several_share_a_directory() {
    let place = tempfile::tempdir().unwrap();
    several_work_in(place.path().to_str().unwrap(), &ground(&land(150, 90)));
    let left: Vec<String> = std::fs::read_dir(place.path())
        .unwrap()
        .map(|e| e.unwrap())
        .filter(|e| e.path().is_file())
        .map(|e| e.file_name().to_string_lossy().into_owned())
        .collect();
    let mut left = left;
    left.sort();
    assert_eq!(left, ["finished", "plan"], "what was computed on the way is gone");
}

/// Sinks that stay open, a surface that is filled already, and flow that is divided.
#[test]
fn several_share_other_ways() {
    // Divided flow goes by stretches of 512 rows: here two, and one row that no band can be of.
    let (low, high) = (land(150, 90), land(1025, 30));
    let open: Vec<u32> = [20 * 90 + 45, 21 * 90 + 30, 75 * 90 + 47, 149 * 90].into();
    let filled = fill_to_outlets(&low, &open, &Silent).unwrap();
    for (dem, fills, open, division) in [
        (&low, true, open.clone(), None),
        (&filled, false, open.clone(), None),
        (&filled, false, open, Some(Division::DInfinity)),
        (&high, true, vec![300 * 30 + 12], Some(Division::DInfinity)),
        (&high, true, Vec::new(), Some(Division::Mfd { exponent: MFD_EXPONENT })),
    ] {
        let place = tempfile::tempdir().unwrap();
        let ways = Ways { fills, open, division };
        several_work_in(place.path().to_str().unwrap(), &ground_with(dem, ways));
    }
}

#[test]
fn several_share_breaching() {
    let (low, high) = (land(150, 90), land(1100, 30));
    for (dem, open, division) in [
        (&low, Vec::new(), None),
        (&low, vec![20 * 90 + 45, 75 * 90 + 47], None),
        (&high, vec![300 * 30 + 12], Some(Division::Mfd { exponent: MFD_EXPONENT })),
    ] {
        let place = tempfile::tempdir().unwrap();
        let ways = Ways { fills: true, open, division };
        let ground = ground_breached(dem, ways);
        assert!(ground.breaching.as_ref().unwrap().sinks.len() > 200);
        several_work_in(place.path().to_str().unwrap(), &ground);
    }
}

#[test]
fn several_share_an_object_store() {
    let endpoint = object_store_stand_in::begin();
    for (name, value) in [
        ("AWS_ENDPOINT", endpoint.as_str()),
        ("AWS_REGION", "here"),
        ("AWS_ACCESS_KEY_ID", "made-up"),
        ("AWS_SECRET_ACCESS_KEY", "made-up"),
    ] {
        // SAFETY: no other test of this program reads the environment.
        #[allow(unsafe_code)]
        unsafe {
            std::env::set_var(name, value)
        };
    }
    several_work_in("s3://terrain/north/run 1", &ground(&land(150, 90)));
}

/// Cancels once it has been asked some times.
struct After(AtomicUsize);

impl Monitor for After {
    fn progress(&self, _: f64) {}
    fn is_cancelled(&self) -> bool {
        self.0.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |left| Some(left.saturating_sub(1)))
            == Ok(0)
    }
}

#[test]
fn work_goes_on_from_what_is_there() {
    let place = tempfile::tempdir().unwrap();
    let place = place.path().to_str().unwrap();
    let dem = land(120, 60);
    let prepared = AtomicBool::new(false);
    let prepare = |_: &dyn Monitor| {
        assert!(!prepared.swap(true, Ordering::Relaxed), "what was prepared is there");
        Ok::<_, Error>(ground_breached(&dem, plain()))
    };
    let mut stopped = 0;
    for asked in (6..).step_by(9) {
        let mut joint = join(place);
        match joint.work(prepare, &|_| (), &After(AtomicUsize::new(asked))) {
            Err(Error::Core(bothros_core::Error::Cancelled)) => stopped += 1,
            Err(other) => panic!("{other}"),
            Ok(Outcome::Mine(computed)) => {
                holds_the_same(&computed, &dem);
                break;
            }
            Ok(Outcome::Done(_)) => unreachable!("nobody else is there"),
        }
    }
    assert!(stopped > 3, "stopped {stopped} times");
}

#[test]
fn other_work_and_other_versions_are_refused() {
    let place = tempfile::tempdir().unwrap();
    let place = place.path().to_str().unwrap();
    let _first = join(place);
    let told = |terms| {
        Joint::join(place, terms, ROOM, |begun| format!("“{begun}” was begun")).err().unwrap().to_string()
    };
    assert!(told(terms("2", "w")).contains("was begun by 1, and this is 2"));
    assert!(told(terms("1", "v")).contains("“w” was begun"));
    for wrong in ["ftp://host/there", "s3://", "/proc/nowhere"] {
        assert!(
            matches!(Joint::join(wrong, terms("1", "w"), ROOM, |_| String::new()), Err(Error::Place { .. })),
            "{wrong}"
        );
    }
}

#[test]
fn what_is_damaged_is_told_by_name() {
    let place = tempfile::tempdir().unwrap();
    let dem = land(60, 40);
    let mut joint = join(place.path().to_str().unwrap());
    let prepare = |_: &dyn Monitor| Ok::<_, Error>(ground(&dem));
    let stop = After(AtomicUsize::new(2));
    assert!(joint.work(prepare, &|_| (), &stop).is_err());
    // Whoever goes on leaves no band to itself that it had begun before.
    drop(joint);
    let mut joint = join(place.path().to_str().unwrap());
    let band = place.path().join("dem").join("00003");
    let data = std::fs::read(&band).unwrap();
    std::fs::write(&band, &data[..data.len() / 2]).unwrap();
    let told = joint.work(prepare, &|_| (), &Silent).unwrap_err().to_string();
    assert!(told.contains("dem/00003") && told.contains("damaged"), "{told}");
}

#[test]
fn an_opened_work_is_helped_with() {
    let place = tempfile::tempdir().unwrap();
    let works = || Works::at(place.path().to_str().unwrap()).unwrap();
    let (dem, prepared) = (land(150, 90), AtomicUsize::new(0));
    let prepare = |_: &dyn Monitor| {
        prepared.fetch_add(1, Ordering::Relaxed);
        Ok::<_, Error>(ground(&dem))
    };
    assert_eq!(works().help("1", ROOM, &Silent).unwrap(), 0, "nothing is open");
    // Its owner ends once all is laid out.
    let mut opened = works().open("study-7", terms("1", "w"), ROOM).unwrap();
    let laid_out = place.path().join("works");
    let stop = AtomicBool::new(false);
    struct Until<'a>(&'a AtomicBool);
    impl Monitor for Until<'_> {
        fn progress(&self, _: f64) {}
        fn is_cancelled(&self) -> bool {
            self.0.load(Ordering::Relaxed)
        }
    }
    let ended = opened.work(
        prepare,
        &|said| stop.store(said.contains("sinks fill"), Ordering::Relaxed),
        &Until(&stop),
    );
    assert!(matches!(ended, Err(Error::Core(bothros_core::Error::Cancelled))), "{ended:?}");
    drop(opened);
    // Another version leaves it alone; the same does all there is to do, and finishes nothing.
    assert_eq!(works().help("2", ROOM, &Silent).unwrap(), 0);
    let helped = works().help("1", ROOM, &Silent).unwrap();
    assert!(helped > 5 * 4, "{helped}");
    assert_eq!(works().help("1", ROOM, &Silent).unwrap(), 0);
    let told = std::sync::Mutex::new(Vec::new());
    let mut again = works().open("study-7", terms("1", "w"), ROOM).unwrap();
    let computed = again.work(prepare, &|said| told.lock().unwrap().push(said.to_owned()), &Silent).unwrap();
    holds_the_same(&computed, &dem);
    assert_eq!(told.into_inner().unwrap(), ["putting together what was computed"]);
    assert_eq!(prepared.load(Ordering::Relaxed), 1);
    again.close().unwrap();
    assert_eq!(std::fs::read_dir(&laid_out).unwrap().count(), 0, "nothing is left of it");

    // Of a name there is one work at a time: what was left of another is taken away.
    for work in ["before", "after"] {
        drop(works().open("study-7", terms("1", work), ROOM).unwrap());
        drop(works().open("study-8", terms("1", work), ROOM).unwrap());
        assert_eq!(std::fs::read_dir(&laid_out).unwrap().count(), 2);
    }
}

#[test]
fn others_help_while_the_owner_works() {
    let place = tempfile::tempdir().unwrap();
    let works = || Works::at(place.path().to_str().unwrap()).unwrap();
    let (dem, helping) = (land(150, 90), AtomicBool::new(true));
    let laid_out = place.path().join("works");
    let helped = std::thread::scope(|scope| {
        let helper = scope.spawn(|| {
            let mut helped = 0;
            while helping.load(Ordering::Relaxed) {
                helped += works().help("1", ROOM, &Silent).unwrap();
            }
            helped
        });
        for _ in 0..3 {
            let mut opened = works().open("study-9", terms("1", "w"), ROOM).unwrap();
            let slowly = |said: &str| {
                // It does not go on before somebody has come to help.
                let begun = std::time::Instant::now();
                let signs = || walk(&laid_out).into_iter().filter(|path| path.contains("/workers/")).count();
                while said.contains("filling") && signs() < 2 && begun.elapsed().as_secs() < 20 {
                    std::thread::sleep(std::time::Duration::from_millis(5));
                }
            };
            let computed = opened.work(|_| Ok(ground(&dem)), &slowly, &Silent).unwrap();
            holds_the_same(&computed, &dem);
            opened.close().unwrap();
        }
        helping.store(false, Ordering::Relaxed);
        helper.join().unwrap()
    });
    assert!(helped > 0);
    assert_eq!(walk(place.path()), [""; 0], "nothing is left");
}

/// Names of files below a directory.
fn walk(directory: &std::path::Path) -> Vec<String> {
    let Ok(files) = std::fs::read_dir(directory) else { return Vec::new() };
    files
        .filter_map(Result::ok)
        .flat_map(|file| match file.path().is_dir() {
            true => walk(&file.path()),
            false => vec![file.path().to_string_lossy().into_owned()],
        })
        .collect()
}
