//! Blocks larger than memory may be hold what was written to them.
#![allow(clippy::unwrap_used)]

use std::sync::Mutex;

use bothros_spill::{Error, LARGE, Limit, Spilling, resident, room};

#[global_allocator]
static MEMORY: Spilling = Spilling;

/// A limit holds for the whole process: tests take turns.
static TURN: Mutex<()> = Mutex::new(());

const MB: usize = 1 << 20;

fn value(at: usize) -> u64 {
    (at as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15)
}

#[test]
fn more_than_the_limit_is_written_and_read() {
    let _turn = TURN.lock();
    let dir = tempfile::tempdir().unwrap();
    let before = resident();
    let limit = Limit::begin(dir.path(), before + 96 * MB as u64).unwrap();
    let mut most = 0;
    let mut blocks: Vec<Vec<u64>> = Vec::new();
    for block in 0..6 {
        let values = (0..8 * MB).map(|at| value(at + block));
        blocks.push(values.collect());
        most = most.max(resident());
    }
    for (block, values) in blocks.iter().enumerate() {
        assert!(values.iter().enumerate().all(|(at, v)| *v == value(at + block)), "block {block}");
        most = most.max(resident());
    }
    // 384 MB were written; between two looks it may be a little more than the limit.
    assert!(most < before + 240 * MB as u64, "{} MB were held", (most - before) / MB as u64);
    assert!(!limit.was_refused());
    assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 0, "files have no names");
    // A block outlives the limit.
    drop(limit);
    assert!(blocks[5].iter().enumerate().all(|(at, v)| *v == value(at + 5)));
}

#[test]
fn blocks_grow_shrink_and_come_as_zeros() {
    let _turn = TURN.lock();
    let dir = tempfile::tempdir().unwrap();
    let _limit = Limit::begin(dir.path(), 1 << 30).unwrap();
    let mut grows: Vec<u32> = Vec::new();
    grows.extend(0..4 * MB as u32);
    assert!(grows.iter().enumerate().all(|(at, v)| *v as usize == at));
    grows.truncate(10);
    grows.shrink_to_fit();
    assert_eq!(grows[..], [0, 1, 2, 3, 4, 5, 6, 7, 8, 9]);
    let again = vec![7u8; 3 * LARGE];
    drop(again);
    assert!(vec![0u8; 3 * LARGE].iter().all(|v| *v == 0));
}

#[test]
fn many_threads_take_and_give_back() {
    let _turn = TURN.lock();
    let dir = tempfile::tempdir().unwrap();
    // So low that pages are let go of all the time.
    let _limit = Limit::begin(dir.path(), 1).unwrap();
    std::thread::scope(|scope| {
        for thread in 0..4u8 {
            scope.spawn(move || {
                for round in 0..30u8 {
                    let block = vec![thread ^ round; LARGE + usize::from(round) * 4096];
                    assert!(block.iter().all(|v| *v == thread ^ round));
                }
            });
        }
    });
}

#[test]
fn what_cannot_be_is_told() {
    let _turn = TURN.lock();
    let dir = tempfile::tempdir().unwrap();
    let limit = Limit::begin(dir.path(), 1 << 30).unwrap();
    assert!(matches!(Limit::begin(dir.path(), 1 << 30), Err(Error::Held)));
    drop(limit);
    drop(Limit::begin(dir.path(), 1 << 30).unwrap());
    assert!(matches!(Limit::begin(&dir.path().join("gone"), 1 << 30), Err(Error::Directory(_))));
    assert!(matches!(Limit::begin("/proc".as_ref(), 1 << 30), Err(Error::Directory(_))));
    assert!(room(dir.path()).unwrap() > 0 && room(&dir.path().join("gone")).is_err());
}
