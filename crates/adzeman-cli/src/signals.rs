//! Ctrl-C, and being told to end.
//!
//! In a session, Ctrl-C is a wish that whatever waits looks for ([`take_interrupt`]); outside of one, and when nothing has looked
//! for it since the last, it ends the command. A host that was started for the session is in a process group of its own, so that
//! Ctrl-C reaches this command only; when this command is told to end, the host is told first.

use std::sync::atomic::{AtomicBool, AtomicU32, Ordering::SeqCst};

/// Exit code of a command that Ctrl-C ended (128 and the number of the signal).
const INTERRUPTED_CODE: i32 = 130;

/// Ctrl-C was pressed, and nobody has looked for it.
static INTERRUPTED: AtomicBool = AtomicBool::new(false);
/// Whether there is a session, in which someone will.
static IN_SESSION: AtomicBool = AtomicBool::new(false);
/// The process of the host that was started for the session; 0 for none.
static OWNED: AtomicU32 = AtomicU32::new(0);

/// Whether Ctrl-C was pressed since the last time.
pub(crate) fn take_interrupt() -> bool {
    INTERRUPTED.swap(false, SeqCst)
}

/// What was pressed before is meant for nothing that follows.
pub(crate) fn forget_interrupt() {
    INTERRUPTED.store(false, SeqCst);
}

/// From here on, Ctrl-C is looked for.
pub(crate) fn begin_session() {
    IN_SESSION.store(true, SeqCst);
}

/// Notes the host that was started; 0 when it is gone.
pub(crate) fn own(process: u32) {
    OWNED.store(process, SeqCst);
}

/// Ctrl-C was pressed; whether that ends the command.
fn interrupted() -> bool {
    !IN_SESSION.load(SeqCst) || INTERRUPTED.swap(true, SeqCst)
}

#[cfg(unix)]
mod system {
    use std::io;
    use std::thread;

    use rustix::process::{Pid, Signal, kill_process};
    use rustix::termios::{OptionalActions, Termios, tcgetattr, tcsetattr};
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    use signal_hook::iterator::Signals;

    use super::{INTERRUPTED_CODE, OWNED, SeqCst, interrupted};

    /// Takes the signals over, on a thread of its own.
    pub(crate) fn listen() -> io::Result<()> {
        let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP])?;
        // As it was before anything changed it.
        let terminal = tcgetattr(io::stdin()).ok();
        thread::Builder::new().name("adzeman-signals".to_owned()).spawn(move || {
            for signal in &mut signals {
                match signal {
                    SIGINT if !interrupted() => {}
                    SIGINT => end(INTERRUPTED_CODE, terminal.as_ref()),
                    other => end(128 + other, terminal.as_ref()),
                }
            }
        })?;
        Ok(())
    }

    /// Ends the command, and first of all the host that it has started.
    fn end(code: i32, terminal: Option<&Termios>) {
        let owned = i32::try_from(OWNED.load(SeqCst)).ok().and_then(Pid::from_raw);
        if let Some(owned) = owned {
            // It may have ended already.
            let _ = kill_process(owned, Signal::TERM);
        }
        if let Some(terminal) = terminal {
            // The terminal may be what has gone away.
            let _ = tcsetattr(io::stdin(), OptionalActions::Now, terminal);
        }
        std::process::exit(code);
    }
}

#[cfg(not(unix))]
mod system {
    use std::io;

    use super::{INTERRUPTED_CODE, interrupted};

    /// Takes Ctrl-C over.
    pub(crate) fn listen() -> io::Result<()> {
        let pressed = || {
            if interrupted() {
                std::process::exit(INTERRUPTED_CODE);
            }
        };
        ctrlc::set_handler(pressed).map_err(io::Error::other)
    }
}

pub(crate) use system::listen;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ctrl_c_is_a_wish_in_a_session_and_the_end_outside_or_unheard() {
        assert!(interrupted(), "no session");
        begin_session();
        assert!(!interrupted());
        assert!(interrupted(), "nothing has looked for the first");
        assert!(take_interrupt() && !take_interrupt());
        assert!(!interrupted());
        forget_interrupt();
        assert!(!take_interrupt());
    }
}
