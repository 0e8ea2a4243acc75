//! A name that two patterns would both match.
//!
//! The pairs of their steps are walked breadth first, a character at a time, so that the
//! shortest name is found first. Texts that must be the same twice are not followed:
//! whoever asks tries each name on the patterns themselves, and is told the next.

use std::collections::VecDeque;

use crate::pattern::matcher::{Op, Program, fold};

/// So often a pair of steps is looked at, each time with another name.
const VISITS: u8 = 16;

/// So many steps are looked at in all; patterns that need more are given up.
const MOST: usize = 1_000_000;

/// So many characters are tried where both would take many.
const CHOICES: usize = 4;

/// Characters that stand for any, in this order.
const LIKELY: [char; 6] = ['x', '1', 'a', 'B', '-', '_'];

/// A pair of steps that was reached: the one before it, and the character between.
struct Reached {
    steps: (usize, usize),
    before: Option<usize>,
    taken: Option<char>,
}

struct Walk {
    reached: Vec<Reached>,
    visits: Vec<u8>,
    width: usize,
    queue: VecDeque<usize>,
}

impl Walk {
    fn reach(&mut self, steps: (usize, usize), before: Option<usize>, taken: Option<char>) {
        let visits = &mut self.visits[steps.0 * self.width + steps.1];
        if *visits == VISITS || self.reached.len() == MOST {
            return;
        }
        *visits += 1;
        self.reached.push(Reached { steps, before, taken });
        let index = self.reached.len() - 1;
        if taken.is_some() { self.queue.push_back(index) } else { self.queue.push_front(index) }
    }

    fn spelled(&self, mut at: usize) -> String {
        let mut text = Vec::new();
        loop {
            text.extend(self.reached[at].taken);
            match self.reached[at].before {
                Some(before) => at = before,
                None => return text.into_iter().rev().collect(),
            }
        }
    }
}

impl Program {
    /// The shortest name that both would match, and that `fits`.
    pub fn meets(&self, other: &Program, fits: &mut dyn FnMut(&str) -> bool) -> Option<String> {
        let width = other.steps.len();
        let mut walk = Walk {
            reached: Vec::new(),
            visits: vec![0; self.steps.len() * width],
            width,
            queue: VecDeque::new(),
        };
        walk.reach((0, 0), None, None);
        while let Some(at) = walk.queue.pop_front() {
            let (mine, its) = walk.reached[at].steps;
            if let Some(next) = self.freely(mine) {
                next.into_iter()
                    .rev()
                    .flatten()
                    .for_each(|step| walk.reach((step, its), Some(at), None));
            } else if let Some(next) = other.freely(its) {
                next.into_iter()
                    .flatten()
                    .for_each(|step| walk.reach((mine, step), Some(at), None));
            } else if matches!((self.op(mine), other.op(its)), (Op::Done, Op::Done)) {
                let text = walk.spelled(at);
                if fits(&text) {
                    return Some(text);
                }
            } else {
                for c in self.shared(mine, other, its) {
                    walk.reach((mine + 1, its + 1), Some(at), Some(c));
                }
            }
        }
        None
    }

    fn op(&self, step: usize) -> &Op {
        &self.steps[step].op
    }

    /// Where a step leads without a character; `None` for one that takes one.
    fn freely(&self, step: usize) -> Option<[Option<usize>; 2]> {
        match self.op(step) {
            Op::Split(first, second) => Some([Some(*first), Some(*second)]),
            Op::Jump(to) => Some([Some(*to), None]),
            Op::Open(_) | Op::Close(_) => Some([Some(step + 1), None]),
            _ => None,
        }
    }

    /// Some of the characters that both steps take.
    fn shared(&self, mine: usize, other: &Program, its: usize) -> Vec<char> {
        let mut shared = Vec::new();
        let (mine_op, its_op) = (self.op(mine), other.op(its));
        let literal = |op: &Op| matches!(op, Op::Char(_)).then(|| ends(op)).unwrap_or_default();
        let literals = literal(mine_op).into_iter().chain(literal(its_op));
        let ends = ends(mine_op).into_iter().chain(ends(its_op));
        for c in literals.chain(LIKELY).chain(ends) {
            if !shared.contains(&c) && self.takes(mine, c) && other.takes(its, c) {
                shared.push(c);
            }
        }
        shared.truncate(CHOICES);
        shared
    }

    fn takes(&self, step: usize, c: char) -> bool {
        let like = if self.exact_case { c } else { fold(c) };
        match self.op(step) {
            Op::Char(wanted) => like == *wanted,
            Op::Any => c != '/',
            Op::Deep => true,
            Op::Digit => c.is_ascii_digit(),
            Op::Class { negated, ranges } => c != '/' && self.in_class(like, ranges) != *negated,
            _ => false,
        }
    }
}

/// The characters at the ends of what a step takes or does not take, and beside them:
/// two steps that share a character share one of these, or a likely one.
fn ends(op: &Op) -> Vec<char> {
    let beside = |c: char, by: i64| {
        u32::try_from(i64::from(u32::from(c)) + by).ok().and_then(char::from_u32)
    };
    match op {
        Op::Char(c) => vec![*c],
        Op::Deep => vec!['/'],
        Op::Digit => vec!['0', '9'],
        Op::Class { ranges, .. } => ranges
            .iter()
            .flat_map(|(low, high)| [Some(*low), Some(*high), beside(*low, -1), beside(*high, 1)])
            .flatten()
            .filter(|c| !c.is_control())
            .collect(),
        _ => Vec::new(),
    }
}
