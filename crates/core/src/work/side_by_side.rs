//! The same for many files, several at a time.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

use crate::files::kept_open::KeptOpen;

/// So many threads work side by side at the most: more would only wait for the disk.
const MOST: usize = 4;

/// Fewer are worked by the thread that asks.
const FEW: usize = 8;

/// So many are worked before what came of them is taken on: each has files open.
pub(crate) const TOGETHER: usize = 64;

/// Does the work for each of `items`; gives what came of each, in their order. After a fault
/// nothing new is begun.
///
/// # Errors
/// The first fault, with the number of its item.
pub(crate) fn side_by_side<T: Sync, R: Send, E: Send>(
    items: &[T],
    work: impl Fn(usize, &T) -> Result<R, E> + Sync,
) -> Result<Vec<R>, (usize, E)> {
    let threads = thread::available_parallelism().map_or(1, usize::from).min(MOST);
    if threads == 1 || items.len() < FEW {
        let each = items.iter().enumerate();
        return each.map(|(at, item)| work(at, item).map_err(|fault| (at, fault))).collect();
    }
    let next = AtomicUsize::new(0);
    let some = || {
        let _open = KeptOpen::begin();
        let mut done = Vec::new();
        while let Some((at, item)) = {
            let at = next.fetch_add(1, Ordering::Relaxed);
            items.get(at).map(|item| (at, item))
        } {
            let outcome = work(at, item);
            if outcome.is_err() {
                next.store(items.len(), Ordering::Relaxed);
            }
            done.push((at, outcome));
        }
        done
    };
    let mut done: Vec<(usize, Result<R, E>)> = thread::scope(|scope| {
        let others: Vec<_> = (1..threads).map(|_| scope.spawn(some)).collect();
        let mut done = some();
        for other in others {
            match other.join() {
                Ok(its) => done.extend(its),
                Err(panic) => std::panic::resume_unwind(panic),
            }
        }
        done
    });
    done.sort_by_key(|(at, _)| *at);
    done.into_iter().map(|(at, outcome)| outcome.map_err(|fault| (at, fault))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_are_done_in_their_order_and_a_fault_ends_it() {
        let items: Vec<usize> = (0..500).collect();
        let doubled = side_by_side(&items, |at, item| {
            assert_eq!(at, *item);
            Ok::<_, ()>(item * 2)
        });
        assert_eq!(doubled.unwrap(), (0..500).map(|item| item * 2).collect::<Vec<_>>());
        let begun = AtomicUsize::new(0);
        let fault = side_by_side(&items, |_, item| {
            begun.fetch_add(1, Ordering::Relaxed);
            if *item == 20 { Err("twenty") } else { Ok(()) }
        });
        assert_eq!(fault.unwrap_err(), (20, "twenty"));
        assert!(begun.into_inner() < 500);
        let panics = || {
            side_by_side(
                &items,
                |_, item| if *item == 7 { panic!("seven") } else { Ok::<_, ()>(()) },
            )
        };
        assert!(std::panic::catch_unwind(panics).is_err());
    }
}
