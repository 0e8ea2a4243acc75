//! Faults that are injected for tests: at named points of the protocol the process is
//! killed, or the operating system seems to fail.
//!
//! Only builds with debug assertions have them; in a release every point is nothing.
//! `VADEGATE_FAULT=POINT:N=KIND` has the N-th passing of a point fail (`kill`, `io`,
//! `full`, `short`, `slow`, `abort`, `panic`), and `VADEGATE_FAULT=list` writes the points that are
//! passed to stderr.

/// Points of the protocol, in its order.
pub const POINTS: [&str; 51] = [
    "enter.read",
    "enter.sync",
    "ledger.commit",
    "ledger.committed",
    "read.table",
    "stage.create",
    "stage.write",
    "stage.sync",
    "stage.synced",
    "stage.verify",
    "load.connect",
    "load.rows",
    "load.marked",
    "load.committed",
    "unload.marked",
    "send.begin",
    "send.answered",
    "run.begin",
    "run.ended",
    "source.sync",
    "publish.folder",
    "publish.create",
    "publish.replace",
    "publish.exchange",
    "publish.exchanged",
    "publish.append",
    "publish.write",
    "publish.sync",
    "publish.unstage",
    "publish.published",
    "file.rename",
    "file.renamed",
    "file.copy",
    "file.write",
    "file.verify",
    "file.place",
    "file.unlink",
    "file.delete",
    "clear.remove",
    "folder.sync",
    "door.write",
    "door.publish",
    "door.published",
    "deliver.noted",
    "deliver.sent",
    "deliver.named",
    "fetch.begun",
    "fetch.received",
    "fetch.published",
    "fetch.end",
    "fetch.ended",
];

/// Whether this build can have faults injected.
pub const COMPILED: bool = cfg!(debug_assertions);

#[cfg(debug_assertions)]
mod injected {
    use std::collections::HashMap;
    use std::io::{self, Write};
    use std::sync::{Mutex, OnceLock};
    use std::time::Duration;

    enum InjectedFault {
        Nothing,
        List,
        Fault { point: String, nth: u32, kind: String },
    }

    fn wanted() -> &'static InjectedFault {
        static WANTED: OnceLock<InjectedFault> = OnceLock::new();
        WANTED.get_or_init(|| {
            let Ok(text) = std::env::var("VADEGATE_FAULT") else { return InjectedFault::Nothing };
            if text == "list" {
                return InjectedFault::List;
            }
            let fault = text.split_once('=').and_then(|(at, kind)| {
                let (point, nth) = at.split_once(':')?;
                let (point, kind) = (point.to_owned(), kind.to_owned());
                Some(InjectedFault::Fault { point, nth: nth.parse().ok()?, kind })
            });
            fault.unwrap_or(InjectedFault::Nothing)
        })
    }

    /// Tells the test, which reads stderr; a reader that has gone is no fault.
    fn tell(what: &str) {
        let _ = writeln!(io::stderr(), "{what}");
    }

    fn passed(point: &str) -> u32 {
        static PASSED: Mutex<Option<HashMap<String, u32>>> = Mutex::new(None);
        let mut passed = PASSED.lock().unwrap_or_else(|p| p.into_inner());
        let count = passed.get_or_insert_default().entry(point.to_owned()).or_default();
        *count += 1;
        *count
    }

    /// The kind of fault that is to happen here, if one is.
    fn due(point: &str) -> Option<&'static str> {
        match wanted() {
            InjectedFault::Nothing => None,
            InjectedFault::List => {
                tell(&format!("point {point}"));
                None
            }
            InjectedFault::Fault { point: wanted, nth, kind } => {
                (point == wanted && passed(point) == *nth).then_some(kind.as_str())
            }
        }
    }

    pub(crate) fn at(point: &'static str) -> io::Result<()> {
        let Some(kind) = due(point) else { return Ok(()) };
        happen(point, kind)
    }

    fn happen(point: &str, kind: &str) -> io::Result<()> {
        tell(&format!("fault {kind} at {point}"));
        match kind {
            "kill" => {
                // Nothing runs after it.
                let _ = rustix::process::kill_process(
                    rustix::process::getpid(),
                    rustix::process::Signal::KILL,
                );
                Ok(())
            }
            "abort" => std::process::abort(),
            "panic" => panic!("a fault that a test has injected"),
            "slow" => {
                std::thread::sleep(Duration::from_millis(300));
                Ok(())
            }
            "full" | "short" => Err(io::Error::from_raw_os_error(libc::ENOSPC)),
            _ => Err(io::Error::from_raw_os_error(libc::EIO)),
        }
    }

    /// Writes `bytes` unless a fault is due; a short write leaves half of them.
    pub(crate) fn write(
        point: &'static str,
        bytes: &[u8],
        mut write: impl FnMut(&[u8]) -> io::Result<()>,
    ) -> io::Result<()> {
        let Some(kind) = due(point) else { return write(bytes) };
        if matches!(kind, "short" | "kill") {
            write(&bytes[..bytes.len() / 2])?;
        }
        happen(point, kind)?;
        write(bytes)
    }
}

#[cfg(not(debug_assertions))]
mod injected {
    use std::io;

    #[inline(always)]
    #[expect(clippy::unnecessary_wraps, reason = "as the one that can fail")]
    pub(crate) fn at(_: &'static str) -> io::Result<()> {
        Ok(())
    }

    #[inline(always)]
    pub(crate) fn write(
        _: &'static str,
        bytes: &[u8],
        mut write: impl FnMut(&[u8]) -> io::Result<()>,
    ) -> io::Result<()> {
        write(bytes)
    }
}

pub(crate) use injected::{at, write};
