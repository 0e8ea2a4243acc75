//! The threads on which tables are taken apart and put together. All works of a process
//! share them: as many as there are processors, however many gates are busy.

use std::collections::VecDeque;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::OnceLock;
use std::sync::mpsc::{Receiver, sync_channel};
use std::thread::{Result as Ended, available_parallelism};

use rayon_core::{ThreadPool, ThreadPoolBuilder};

/// The pool; none when the system gives no more threads, and all is done where it is
/// asked for.
fn pool() -> Option<&'static ThreadPool> {
    static POOL: OnceLock<Option<ThreadPool>> = OnceLock::new();
    let begin = || {
        let name = |at: usize| format!("tables-{at}");
        ThreadPoolBuilder::new().num_threads(threads()).thread_name(name).build().ok()
    };
    POOL.get_or_init(begin).as_ref()
}

/// Threads of the pool.
fn threads() -> usize {
    available_parallelism().map_or(1, usize::from).min(16)
}

/// Pieces of work that are under way at once at the most, which is what bounds memory.
pub(crate) fn most_under_way() -> usize {
    threads() * 2
}

/// What a piece of work gave, or the panic that ended it.
type Done<T> = Receiver<Ended<T>>;

fn gone<T>() -> Ended<T> {
    Err(Box::new("a thread of the pool ended"))
}

fn settled<T>(done: &Done<T>) -> T {
    match done.recv().unwrap_or_else(|_| gone()) {
        Ok(value) => value,
        Err(panic) => resume_unwind(panic),
    }
}

/// Does a work on each piece that `next` gives, several at once, and gives what comes of
/// it to `take`, in the order of the pieces. A panic of a piece is one of the caller.
///
/// # Errors
/// The first of `next` or `take`; what was under way is dropped.
pub(crate) fn in_order<P: Send, T: Send, E>(
    mut next: impl FnMut() -> Result<Option<P>, E>,
    work: impl Fn(P) -> T + Sync,
    mut take: impl FnMut(T) -> Result<(), E>,
) -> Result<(), E> {
    let Some(first) = next()? else { return Ok(()) };
    let second = next()?;
    let (Some(pool), Some(second)) = (pool(), second) else {
        // A single piece is not worth another thread.
        return take(work(first));
    };
    let work = &work;
    pool.in_place_scope_fifo(|scope| {
        let mut under_way: VecDeque<Done<T>> = VecDeque::new();
        let begin = |piece: P, under_way: &mut VecDeque<Done<T>>| {
            let (tell, done) = sync_channel(1);
            scope.spawn_fifo(move |_| {
                let ended = catch_unwind(AssertUnwindSafe(|| work(piece)));
                // Nobody waits for it once something has failed.
                let _ = tell.send(ended);
            });
            under_way.push_back(done);
        };
        begin(first, &mut under_way);
        begin(second, &mut under_way);
        let mut ended = false;
        loop {
            while !ended && under_way.len() < most_under_way() {
                match next()? {
                    Some(piece) => begin(piece, &mut under_way),
                    None => ended = true,
                }
            }
            let Some(done) = under_way.pop_front() else { return Ok(()) };
            take(settled(&done))?;
        }
    })
}

/// Works that go on while more are given, whose results come in order.
pub(crate) struct Queue<T> {
    under_way: VecDeque<Done<T>>,
}

impl<T: Send + 'static> Queue<T> {
    pub fn new() -> Self {
        Queue { under_way: VecDeque::new() }
    }

    /// Begins a work; gives what came of the first one when too many are under way.
    pub fn push(&mut self, work: impl FnOnce() -> T + Send + 'static) -> Option<T> {
        let (tell, done) = sync_channel(1);
        let run = move || {
            let _ = tell.send(catch_unwind(AssertUnwindSafe(work)));
        };
        match pool() {
            Some(pool) => pool.spawn_fifo(run),
            None => run(),
        }
        self.under_way.push_back(done);
        (self.under_way.len() > most_under_way()).then(|| self.pop()).flatten()
    }

    /// What came of the first work that is under way; waits for it.
    pub fn pop(&mut self) -> Option<T> {
        self.under_way.pop_front().map(|done| settled(&done))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn results_come_in_order_and_the_first_failure_ends_it() {
        let mut given = 0;
        let next = || {
            given += 1;
            Ok::<_, String>((given <= 500).then_some(given))
        };
        let mut taken = Vec::new();
        let work = |piece: u32| {
            // The later ones are sooner done.
            (0..(500 - piece) * 50).fold(piece, |sum, one| std::hint::black_box(sum ^ one ^ one))
        };
        in_order(next, work, |one| {
            taken.push(one);
            Ok(())
        })
        .expect("no failure");
        assert_eq!(taken, (1..=500).collect::<Vec<_>>());
        let mut left = 10;
        let next = || {
            left -= 1;
            if left == 0 { Err("no more") } else { Ok(Some(left)) }
        };
        assert_eq!(in_order(next, |one| one, |_| Ok(())), Err("no more"));
        let most = |one| if one == 7 { Err("seven") } else { Ok(()) };
        let mut count = 0;
        let next = || {
            count += 1;
            Ok(Some(count))
        };
        assert_eq!(in_order(next, |one| one, most), Err("seven"));
    }

    #[test]
    fn a_panic_of_a_piece_is_the_callers() {
        let mut left = 40;
        let next = || {
            left -= 1;
            Ok::<_, ()>((left > 0).then_some(left))
        };
        let work = |piece: i32| assert!(piece != 20, "twenty");
        let ended = catch_unwind(AssertUnwindSafe(|| in_order(next, work, |()| Ok(()))));
        let panic = ended.expect_err("a panic");
        assert_eq!(panic.downcast_ref::<&str>(), Some(&"twenty"));
        let mut queue = Queue::new();
        let squares: Vec<u64> = (0..100).filter_map(|one| queue.push(move || one * one)).collect();
        let rest: Vec<u64> = std::iter::from_fn(|| queue.pop()).collect();
        let all = (0..100).map(|one| one * one);
        assert_eq!([squares, rest].concat(), all.collect::<Vec<u64>>());
    }
}
