//! Ctrl-C: once to end in good order, twice to end at once.

use std::ops::ControlFlow;
use std::sync::atomic::{AtomicBool, Ordering};

static ASKED: AtomicBool = AtomicBool::new(false);

/// Listens from now on. Where listening is impossible the signal ends the program as it always did.
pub(crate) fn listen() {
    let _ = ctrlc::set_handler(|| {
        if ASKED.swap(true, Ordering::SeqCst) {
            #[expect(clippy::disallowed_methods, reason = "a second Ctrl-C ends the program at once")]
            std::process::exit(130);
        }
    });
}

/// Whether somebody has asked the program to end.
pub(crate) fn asked() -> bool {
    ASKED.load(Ordering::SeqCst)
}

/// The same as a control flow.
pub(crate) fn flow() -> ControlFlow<()> {
    if asked() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
}
