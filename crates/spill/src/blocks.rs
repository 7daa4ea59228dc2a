//! The blocks that lie in files.

use std::sync::atomic::{AtomicPtr, AtomicUsize, Ordering};

/// So many blocks can lie on disk at once; others are taken from memory.
const MOST: usize = 8192;

/// Bytes whose pages are let go of at once.
const PIECE: usize = 16 << 20;

struct Slot {
    block: AtomicPtr<u8>,
    bytes: AtomicUsize,
}

/// Marks a slot that is being filled.
const RESERVED: *mut u8 = std::ptr::dangling_mut();

static SLOTS: [Slot; MOST] =
    [const { Slot { block: AtomicPtr::new(std::ptr::null_mut()), bytes: AtomicUsize::new(0) } }; MOST];

/// Maps a new file without a name in a directory; nothing where there is no room for it.
pub(crate) fn take(directory: i32, bytes: usize) -> Option<*mut u8> {
    let free = |slot: &&Slot| {
        let none = std::ptr::null_mut();
        slot.block.load(Ordering::Relaxed).is_null()
            && slot.block.compare_exchange(none, RESERVED, Ordering::AcqRel, Ordering::Relaxed).is_ok()
    };
    let slot = SLOTS.iter().find(free)?;
    let Some(block) = map(directory, bytes) else {
        slot.block.store(std::ptr::null_mut(), Ordering::Release);
        return None;
    };
    slot.bytes.store(bytes, Ordering::Relaxed);
    slot.block.store(block, Ordering::Release);
    Some(block)
}

fn map(directory: i32, bytes: usize) -> Option<*mut u8> {
    let length = libc::off_t::try_from(bytes).ok()?;
    // SAFETY: the name ends with a NUL; the file is open while it is mapped, and its room on disk is taken before, so that
    // touching a page cannot fail for want of it.
    unsafe {
        let file =
            libc::openat(directory, c".".as_ptr(), libc::O_TMPFILE | libc::O_RDWR | libc::O_CLOEXEC, 0o600);
        if file < 0 {
            return None;
        }
        let block = match libc::posix_fallocate(file, 0, length) {
            0 => libc::mmap(
                std::ptr::null_mut(),
                bytes,
                libc::PROT_READ | libc::PROT_WRITE,
                libc::MAP_SHARED,
                file,
                0,
            ),
            _ => libc::MAP_FAILED,
        };
        libc::close(file);
        (block != libc::MAP_FAILED).then_some(block.cast())
    }
}

fn slot_of(block: *mut u8) -> Option<&'static Slot> {
    SLOTS.iter().find(|slot| slot.block.load(Ordering::Acquire) == block)
}

/// Whether a block lies in a file.
pub(crate) fn holds(block: *mut u8) -> bool {
    slot_of(block).is_some()
}

/// Gives a block of so many bytes back; false where it does not lie in a file.
pub(crate) fn give_back(block: *mut u8, bytes: usize) -> bool {
    let Some(slot) = slot_of(block) else { return false };
    // Who lets pages go must not touch what another mapping may take the place of.
    slot.block.store(RESERVED, Ordering::Release);
    while slot.bytes.compare_exchange(bytes, 0, Ordering::AcqRel, Ordering::Relaxed).is_err() {
        std::thread::yield_now();
    }
    // SAFETY: it was mapped with this length, and its owner has given it back.
    unsafe { libc::munmap(block.cast(), bytes) };
    slot.block.store(std::ptr::null_mut(), Ordering::Release);
    true
}

/// Where letting go goes on the next time, so that each block has its turn.
#[derive(Debug, Default)]
pub(crate) struct Hand {
    slot: usize,
    /// bytes from the beginning of the block
    from: usize,
}

/// Lets the pages of blocks go, one piece after the other from where it stopped before, until `enough` says so; they come back when
/// they are touched. Whether it was enough once each block had its turn.
pub(crate) fn let_go(hand: &mut Hand, enough: &dyn Fn() -> bool) -> bool {
    // The block that it begins in comes once more at the end, for what lies before.
    for _ in 0..=MOST {
        if let_go_of(&SLOTS[hand.slot], &mut hand.from, enough) {
            return true;
        }
        *hand = Hand { slot: (hand.slot + 1) % MOST, from: 0 };
    }
    false
}

fn let_go_of(slot: &Slot, from: &mut usize, enough: &dyn Fn() -> bool) -> bool {
    let bytes = slot.bytes.load(Ordering::Acquire);
    // While its length is taken away it is not unmapped.
    if bytes == 0
        || slot.bytes.compare_exchange(bytes, usize::MAX, Ordering::AcqRel, Ordering::Relaxed).is_err()
    {
        return false;
    }
    let block = slot.block.load(Ordering::Acquire);
    let mut told = false;
    if !block.is_null() && block != RESERVED {
        // Piece by piece: who waits for a page of the block waits for one piece at most.
        while *from < bytes && !told {
            let piece = PIECE.min(bytes - *from);
            // SAFETY: the mapping lives and is that long, and its pages are those of a file that is shared: what was written
            // stays in it.
            unsafe { libc::madvise(block.add(*from).cast(), piece, libc::MADV_DONTNEED) };
            *from += piece;
            told = enough();
        }
    }
    slot.bytes.store(bytes, Ordering::Release);
    told
}
