//! What a gate's thread is told.

use std::sync::mpsc::SyncSender;

use crate::engine::pass::report::PassReport;

/// What a gate's thread is told.
pub(crate) enum Command {
    /// Something may be ready.
    Look,
    /// A whole pass is asked for, and its report.
    Pass(SyncSender<PassReport>),
    /// To stop after what it is doing.
    Stop,
}
