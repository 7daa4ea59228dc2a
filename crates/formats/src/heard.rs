//! What the libraries complain of while they write: some of it they return, and some they only say.

use std::cell::RefCell;
use std::ffi::{CStr, c_char, c_int};
use std::io;

use crate::{Error, Result};

/// What a disk says that takes no more.
const TROUBLE: [i32; 4] = [libc::ENOSPC, libc::EDQUOT, libc::EFBIG, libc::EIO];

thread_local! {
    /// complaints of this thread since it began to write; none while it does not
    static HEARD: RefCell<Option<Vec<String>>> = const { RefCell::new(None) };
}

/// Hears a complaint, in the place of printing it.
pub(crate) unsafe extern "C" fn hear(kind: gdal_sys::CPLErr::Type, _: c_int, text: *const c_char) {
    if kind < gdal_sys::CPLErr::CE_Failure || text.is_null() {
        return;
    }
    // SAFETY: the library gives text that ends with a NUL and lives through this call.
    let text = unsafe { CStr::from_ptr(text) }.to_string_lossy();
    // A thread that ends has none any more.
    let _ = HEARD.try_with(|heard| {
        if let Ok(mut heard) = heard.try_borrow_mut()
            && let Some(heard) = heard.as_mut()
        {
            heard.push(text.into_owned());
        }
    });
}

/// Writes a file by a library: what it only complains of is an error too, and what the disk says goes before all else.
///
/// # Errors
/// Those of `write`, [`Error::Io`] where the disk takes no more, [`Error::Library`].
pub(crate) fn written<T>(write: impl FnOnce() -> Result<T>) -> Result<T> {
    let before = HEARD.replace(Some(Vec::new()));
    let done = write();
    let heard = HEARD.replace(before).unwrap_or_default();
    let disk = |text: &String| {
        let all = TROUBLE.map(io::Error::from_raw_os_error);
        all.into_iter().find(|error| words(error).is_some_and(|words| text.contains(&words)))
    };
    if let Some(trouble) = heard.iter().find_map(disk) {
        return Err(Error::Io(trouble));
    }
    match (done, heard.into_iter().next()) {
        (Ok(_), Some(complaint)) => Err(Error::Library(complaint)),
        (done, _) => done,
    }
}

/// An error of the system without its number, as the libraries tell it.
fn words(error: &io::Error) -> Option<String> {
    let text = error.to_string();
    text.split_once(" (os error").map(|(words, _)| words.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn complain(text: &str) {
        let text = std::ffi::CString::new(text).unwrap();
        // SAFETY: the text lives through the call.
        unsafe { hear(gdal_sys::CPLErr::CE_Failure, 1, text.as_ptr()) }
    }

    #[test]
    fn complaints_are_errors() {
        assert_eq!(written(|| Ok(7)).unwrap(), 7);
        complain("before");
        let told = written(|| {
            complain("Cannot read 43079 bytes");
            complain("_tiffWriteProc:No space left on device");
            Ok(())
        });
        let Err(Error::Io(error)) = told else { panic!("{told:?}") };
        assert_eq!(error.kind(), io::ErrorKind::StorageFull);
        let told = written(|| {
            complain("first");
            complain("second");
            Ok(())
        });
        assert!(matches!(told, Err(Error::Library(text)) if text == "first"));
        assert!(written(|| Ok(())).is_ok());
    }
}
