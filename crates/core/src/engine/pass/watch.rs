//! Looking at the drop folders: at what notices tell of, or at everything.

use std::sync::Arc;

use crate::arrivals::notices::Notices;
use crate::engine::clock::monotonic_now;
use crate::engine::pass::ctx::Pass;
use crate::engine::pass::look;
use crate::ledger::error::LedgerError;
use crate::settings::values::write_duration;

/// So often a pass looks again because drop folders were made while it looked; the next
/// one looks for more.
const FOUND_MEANWHILE: usize = 3;

/// Looks at what notices told of, or sweeps where that is due; gives whether it swept.
pub(crate) fn at_drop_folders(
    p: &mut Pass,
    sweep: bool,
    mut notices: Option<&mut Notices>,
) -> Result<(), LedgerError> {
    let told = notices.as_deref().map(Notices::take).unwrap_or_default();
    if !sweep && !told.sweep && !look::look_at_paths(p, told.paths)? {
        return Ok(());
    }
    let mut found = p.gate().drops.find();
    sweep_and_watch(p, notices.as_deref_mut())?;
    // A folder that was made in between was read and is not watched yet.
    for _ in 0..FOUND_MEANWHILE {
        let now = p.gate().drops.find();
        if notices.is_none() || found.folders == now.folders && found.above == now.above {
            break;
        }
        found = now;
        sweep_and_watch(p, notices.as_deref_mut())?;
    }
    p.swept = Some(monotonic_now());
    Ok(())
}

/// Sweeps the drop folders that are there; with notices each folder is watched before
/// it is read, so that what comes after the reading is told.
fn sweep_and_watch(p: &mut Pass, notices: Option<&mut Notices>) -> Result<(), LedgerError> {
    let live = Arc::clone(&p.live);
    let gate = &live.gate;
    let found = gate.drops.find();
    let network = live.network_kind(&found);
    live.note_network(network);
    let folders = found.folders.len();
    let watching = match (notices, network) {
        (_, Some(kind)) => {
            // They tell of what this machine does, and of nothing else.
            look::sweep(p, found, &mut |_, _| ())?;
            format!("sweeps alone (a {kind} file system tells of no other machine's changes)")
        }
        (Some(notices), None) if gate.notices => {
            notices.begin();
            for folder in &found.above {
                let place = gate.drops.place_of(folder).unwrap_or_default();
                if let Ok(open) = live.context.config.reach.folder(folder) {
                    notices.watch(&open, &place);
                }
            }
            let whole = look::sweep(p, found, &mut |folder, place| notices.watch(folder, place))?;
            let without = notices.end(whole).first().cloned();
            match (without, notices.count()) {
                (None, _) => "notices, and a sweep".to_owned(),
                (Some(why), 0) => format!("sweeps alone (no notices: {why})"),
                (Some(why), _) => format!("notices (none of {why}), and a sweep"),
            }
        }
        _ => {
            look::sweep(p, found, &mut |_, _| ())?;
            "sweeps alone (notices = \"off\")".to_owned()
        }
    };
    let every = write_duration(gate.sweep);
    let folders = match (gate.drops.is_one(), folders) {
        (true, _) => String::new(),
        (false, 0) => ", no drop folder is there yet".to_owned(),
        (false, 1) => ", 1 drop folder".to_owned(),
        (false, count) => format!(", {count} drop folders"),
    };
    live.state().watching = format!("{watching} every {every}{folders}");
    Ok(())
}
