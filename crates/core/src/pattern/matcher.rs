//! Matching: a small program for each pattern, run with backtracking.
//!
//! Wildcards and text fields take as little as they can, digits as much as
//! they can. A place that has failed once is not tried again, so that the time
//! is bounded by pattern length times text length; only a pattern that names a
//! field twice cannot use that, and gets a bound on its steps instead.

mod meeting;

use std::cell::RefCell;

use crate::pattern::Fields;
use crate::pattern::parse::{Kind, Node, Shape};

#[derive(Debug, Clone)]
enum Op {
    Char(char),
    /// Any character but `/`.
    Any,
    /// Any character.
    Deep,
    Class {
        negated: bool,
        ranges: Vec<(char, char)>,
    },
    Digit,
    /// Try the first, then the second.
    Split(usize, usize),
    Jump(usize),
    Open(usize),
    Close(usize),
    Date(usize, crate::pattern::dates::DateSpec),
    Done,
}

#[derive(Debug, Clone)]
struct Step {
    op: Op,
    source_offset: usize,
}

/// A compiled pattern.
#[derive(Debug, Clone)]
pub(crate) struct Program {
    steps: Vec<Step>,
    names: Vec<String>,
    named_twice: bool,
    exact_case: bool,
}

/// Where a match failed, at its furthest.
pub(crate) struct Stopped {
    pub source_offset: usize,
    pub needed: String,
}

const MOST_STEPS: usize = 2_000_000;

fn fold(c: char) -> char {
    if c.is_ascii() {
        return c.to_ascii_lowercase();
    }
    c.to_lowercase().next().unwrap_or(c)
}

impl Program {
    pub fn compile(nodes: &[Node], exact_case: bool) -> Self {
        let mut program =
            Program { steps: Vec::new(), names: Vec::new(), named_twice: false, exact_case };
        program.sequence(nodes);
        let end = nodes.last().map_or(0, |node| node.at + 1);
        program.push(end, Op::Done);
        program
    }

    pub fn fields(&self) -> &[String] {
        &self.names
    }

    pub fn exact_case(&self) -> bool {
        self.exact_case
    }

    fn push(&mut self, source_offset: usize, op: Op) -> usize {
        self.steps.push(Step { op, source_offset });
        self.steps.len() - 1
    }

    fn sequence(&mut self, nodes: &[Node]) {
        for node in nodes {
            self.node(node);
        }
    }

    fn node(&mut self, node: &Node) {
        let at = node.at;
        match &node.kind {
            Kind::Literal(c) => {
                let c = if self.exact_case { *c } else { fold(*c) };
                self.push(at, Op::Char(c));
            }
            Kind::AnyChar => {
                self.push(at, Op::Any);
            }
            Kind::Star => self.repeat(at, &Op::Any, false),
            Kind::Deep => self.repeat(at, &Op::Deep, false),
            Kind::Folders => {
                let split = self.push(at, Op::Split(0, 0));
                self.repeat(at, &Op::Deep, false);
                self.push(at, Op::Char('/'));
                self.steps[split].op = Op::Split(self.steps.len(), split + 1);
            }
            Kind::Class { negated, ranges } => {
                self.push(at, Op::Class { negated: *negated, ranges: ranges.clone() });
            }
            Kind::Either(choices) => self.either(at, choices),
            Kind::Field { name, shape } => {
                let slot = self.slot(name);
                match shape {
                    Shape::Date(spec) => {
                        self.push(at, Op::Date(slot, spec.clone()));
                    }
                    Shape::Text => self.captured(at, slot, &Op::Any, false),
                    Shape::Digits => self.captured(at, slot, &Op::Digit, true),
                }
            }
        }
    }

    fn captured(&mut self, at: usize, slot: usize, op: &Op, greedy: bool) {
        self.push(at, Op::Open(slot));
        self.push(at, op.clone());
        self.repeat(at, op, greedy);
        self.push(at, Op::Close(slot));
    }

    fn repeat(&mut self, at: usize, op: &Op, greedy: bool) {
        let split = self.push(at, Op::Split(0, 0));
        self.push(at, op.clone());
        self.push(at, Op::Jump(split));
        let (more, enough) = (split + 1, self.steps.len());
        self.steps[split].op =
            if greedy { Op::Split(more, enough) } else { Op::Split(enough, more) };
    }

    fn either(&mut self, at: usize, choices: &[Vec<Node>]) {
        let mut ends = Vec::new();
        for (index, choice) in choices.iter().enumerate() {
            if index + 1 == choices.len() {
                self.sequence(choice);
                break;
            }
            let split = self.push(at, Op::Split(0, 0));
            self.sequence(choice);
            ends.push(self.push(at, Op::Jump(0)));
            self.steps[split].op = Op::Split(split + 1, self.steps.len());
        }
        let after = self.steps.len();
        for end in ends {
            self.steps[end].op = Op::Jump(after);
        }
    }

    fn slot(&mut self, name: &str) -> usize {
        if let Some(slot) = self.names.iter().position(|known| known == name) {
            self.named_twice = true;
            return slot;
        }
        self.names.push(name.to_owned());
        self.names.len() - 1
    }

    fn in_class(&self, c: char, ranges: &[(char, char)]) -> bool {
        let within = |c: char| ranges.iter().any(|(low, high)| (*low..=*high).contains(&c));
        within(c)
            || !self.exact_case && (within(fold(c)) || within(c.to_uppercase().next().unwrap_or(c)))
    }

    pub fn run(&self, text: &str) -> Result<Fields, Stopped> {
        // `*` is what most gates take.
        if matches!(
            self.steps[..],
            [Step { op: Op::Split(3, 1), .. }, Step { op: Op::Any, .. }, _, _]
        ) && !text.contains('/')
        {
            return Ok(Fields::new());
        }
        thread_local!(static SCRATCH: RefCell<Scratch> = RefCell::default());
        SCRATCH.with_borrow_mut(|scratch| self.run_in(scratch, text))
    }

    fn run_in(&self, scratch: &mut Scratch, text: &str) -> Result<Fields, Stopped> {
        let Scratch { original, folded, tried, trail } = scratch;
        original.clear();
        original.extend(text.chars());
        folded.clear();
        folded.extend(original.iter().copied().map(fold));
        tried.clear();
        tried.resize(self.steps.len() * (original.len() + 1), false);
        trail.clear();
        let mut run = Run {
            program: self,
            text: if self.exact_case { original } else { folded },
            folded,
            original,
            opened: vec![0; self.names.len()],
            values: vec![None; self.names.len()],
            tried,
            trail,
            furthest: 0,
        };
        if run.go() {
            let pairs = self.names.iter().cloned().zip(run.values);
            return Ok(pairs.filter_map(|(name, value)| Some((name, value?))).collect());
        }
        Err(self.stopped(run.furthest, original))
    }

    fn stopped(&self, mut step: usize, text: &[char]) -> Stopped {
        // A literal is told whole, not from the character that differed.
        while step > 0
            && matches!(self.steps[step].op, Op::Char(_))
            && matches!(self.steps[step - 1].op, Op::Char(_))
        {
            step -= 1;
        }
        let source_offset = self.steps[step].source_offset;
        let needed = match &self.steps[step].op {
            Op::Char(_) => {
                let run = self.steps[step..].iter().map_while(|next| match next.op {
                    Op::Char(c) => Some(c),
                    _ => None,
                });
                let text = run.collect::<String>();
                if text == " " { "a space".to_owned() } else { format!("`{text}`") }
            }
            Op::Digit => "digits".to_owned(),
            Op::Date(_, spec) => format!("a real date as `{}`", spec.source()),
            Op::Class { .. } => "one of the characters in brackets".to_owned(),
            Op::Close(slot) => format!("the same text again for `<{}>`", self.names[*slot]),
            Op::Done => {
                let name: String = text.iter().collect();
                format!("the name to end there, but `{name}` goes on")
            }
            _ => "at least one more character".to_owned(),
        };
        Stopped { source_offset, needed }
    }
}

enum Undo {
    Branch { step: usize, at: usize },
    Value(usize, Option<String>),
    Opened(usize, usize),
}

/// Room for one run, kept for the next.
#[derive(Default)]
struct Scratch {
    original: Vec<char>,
    folded: Vec<char>,
    tried: Vec<bool>,
    trail: Vec<Undo>,
}

struct Run<'a> {
    program: &'a Program,
    text: &'a [char],
    folded: &'a [char],
    original: &'a [char],
    opened: Vec<usize>,
    values: Vec<Option<String>>,
    tried: &'a mut Vec<bool>,
    trail: &'a mut Vec<Undo>,
    furthest: usize,
}

impl Run<'_> {
    fn go(&mut self) -> bool {
        let width = self.text.len() + 1;
        let (mut step, mut at, mut steps) = (0, 0, 0);
        loop {
            steps += 1;
            let again = if self.program.named_twice {
                steps > MOST_STEPS
            } else {
                std::mem::replace(&mut self.tried[step * width + at], true)
            };
            let next = if again { None } else { self.step(step, at) };
            match next {
                Some((next_step, _)) if next_step == usize::MAX => return true,
                Some(next) => (step, at) = next,
                None => match self.back() {
                    Some(next) => (step, at) = next,
                    None => return false,
                },
            }
        }
    }

    fn back(&mut self) -> Option<(usize, usize)> {
        loop {
            match self.trail.pop()? {
                Undo::Branch { step, at } => return Some((step, at)),
                Undo::Value(slot, old) => self.values[slot] = old,
                Undo::Opened(slot, old) => self.opened[slot] = old,
            }
        }
    }

    /// The next step and place, or `None` when this one fails. The end of the
    /// program is the step `usize::MAX`.
    fn step(&mut self, step: usize, at: usize) -> Option<(usize, usize)> {
        let here = self.text.get(at).copied();
        let one = |fits: bool| fits.then_some((step + 1, at + 1));
        let program = self.program;
        let result = match &program.steps[step].op {
            Op::Char(c) => one(here == Some(*c)),
            Op::Any => one(here.is_some_and(|c| c != '/')),
            Op::Deep => one(here.is_some()),
            Op::Digit => one(here.is_some_and(|c| c.is_ascii_digit())),
            Op::Class { negated, ranges } => {
                one(here.is_some_and(|c| c != '/' && program.in_class(c, ranges) != *negated))
            }
            Op::Split(first, second) => {
                self.trail.push(Undo::Branch { step: *second, at });
                return Some((*first, at));
            }
            Op::Jump(to) => return Some((*to, at)),
            Op::Open(slot) => {
                self.trail.push(Undo::Opened(*slot, self.opened[*slot]));
                self.opened[*slot] = at;
                return Some((step + 1, at));
            }
            Op::Close(slot) => {
                let value: String = self.original[self.opened[*slot]..at].iter().collect();
                self.keep(*slot, value).then_some((step + 1, at))
            }
            Op::Date(slot, spec) => spec
                .read(&self.folded[at..])
                .and_then(|(length, iso)| self.keep(*slot, iso).then_some((step + 1, at + length))),
            Op::Done => (at == self.text.len()).then_some((usize::MAX, at)),
        };
        if result.is_none() {
            self.furthest = self.furthest.max(step);
        }
        result
    }

    fn keep(&mut self, slot: usize, value: String) -> bool {
        match &self.values[slot] {
            Some(earlier) if self.program.exact_case => *earlier == value,
            Some(earlier) => earlier.chars().map(fold).eq(value.chars().map(fold)),
            None => {
                self.trail.push(Undo::Value(slot, None));
                self.values[slot] = Some(value);
                true
            }
        }
    }
}
