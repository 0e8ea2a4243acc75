//! The one runtime on which connections live, for whoever asks from a thread of its own.

use std::future::Future;
use std::sync::OnceLock;
use std::time::Duration;

use tokio::runtime::Runtime;

use crate::Fault;

/// An answer is waited for so long.
pub(crate) const PATIENCE: Duration = Duration::from_secs(30);

/// A connection is waited for so long.
pub(crate) const CONNECT: Duration = Duration::from_secs(15);

fn runtime() -> Result<&'static Runtime, Fault> {
    static RUNTIME: OnceLock<std::io::Result<Runtime>> = OnceLock::new();
    let made = RUNTIME.get_or_init(|| {
        let mut builder = tokio::runtime::Builder::new_multi_thread();
        let builder = builder.worker_threads(2).thread_name("places").enable_all();
        builder.build()
    });
    made.as_ref().map_err(|why| Fault::Away(format!("no connection can be made: {why}")))
}

/// Waits on this thread for what is done over connections.
pub(crate) fn wait_for<T>(future: impl Future<Output = Result<T, Fault>>) -> Result<T, Fault> {
    runtime()?.block_on(future)
}
