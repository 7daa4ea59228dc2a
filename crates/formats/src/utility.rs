//! What calls of GDAL's utilities share: their arguments, and a monitor that they report to.

use std::ffi::{CString, c_char, c_int, c_void};

use bothros_core::Monitor;

/// Arguments as the library takes them: pointers to texts, ended by a null pointer.
pub(crate) struct Arguments {
    /// what the pointers point to
    _texts: Vec<CString>,
    pointers: Vec<*mut c_char>,
}

impl Arguments {
    pub(crate) fn new(texts: Vec<CString>) -> Self {
        let mut pointers: Vec<*mut c_char> = texts.iter().map(|t| t.as_ptr().cast_mut()).collect();
        pointers.push(std::ptr::null_mut());
        Self { _texts: texts, pointers }
    }

    /// For a call; good as long as `self` lives.
    pub(crate) fn as_mut_ptr(&mut self) -> *mut *mut c_char {
        self.pointers.as_mut_ptr()
    }
}

/// Tells progress to a monitor, and whether to go on. `data` points to a `&dyn Monitor` that outlives the
/// call it is given to.
pub(crate) unsafe extern "C" fn hear(share: f64, _message: *const c_char, data: *mut c_void) -> c_int {
    // SAFETY: the caller passed a pointer to a monitor that is alive during the call.
    let monitor = unsafe { *data.cast::<&dyn Monitor>() };
    monitor.progress(share);
    c_int::from(!monitor.is_cancelled())
}
