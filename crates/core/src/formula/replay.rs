//! A formula run over what was recorded.

use super::{Outcome, Program, Reading, Running};
use crate::{
    quality::{Quality, Reason},
    sample::Value,
    time::Nanos,
};
use std::sync::Arc;

/// A formula with what its inputs were at an instant of the past. Inputs are told in the order of time.
#[derive(Debug)]
pub struct Replay {
    running: Running,
    inputs: Vec<(Option<Value>, Quality)>,
    fresh: u64,
    /// The instant of what was told and not computed yet.
    open: Option<Nanos>,
}

impl Replay {
    pub fn new(program: Arc<Program>) -> Replay {
        let unread = (None, Quality::of(Reason::NotRead));
        Replay { inputs: vec![unread; program.inputs.len()], running: Running::new(program), fresh: 0, open: None }
    }

    /// An input was told at an instant; without a value only its quality. Gives what follows for earlier instants to `out`.
    pub fn tell(&mut self, at: Nanos, input: usize, value: Option<Value>, quality: Quality, out: &mut dyn FnMut(Outcome)) {
        self.advance(at, out);
        if let Some((known, known_quality)) = self.inputs.get_mut(input) {
            *known = value.or(known.take());
            *known_quality = quality;
            self.fresh |= 1 << input;
            self.open = Some(at);
        }
    }

    /// Nothing more is told of instants before this one: what was open is computed, and what changes with time alone.
    pub fn advance(&mut self, to: Nanos, out: &mut dyn FnMut(Outcome)) {
        if self.open.is_some_and(|open| open < to) {
            self.compute(out);
        }
        while let Some(next) = self.running.next().filter(|&next| self.running.at() > Nanos::MIN && next < to) {
            self.evaluate(next, out);
        }
    }

    /// Everything was told.
    pub fn finish(mut self, to: Nanos, out: &mut dyn FnMut(Outcome)) -> Running {
        self.advance(to, out);
        self.compute(out);
        self.running
    }

    fn compute(&mut self, out: &mut dyn FnMut(Outcome)) {
        if let Some(open) = self.open.take() {
            self.evaluate(open, out);
        }
    }

    fn evaluate(&mut self, at: Nanos, out: &mut dyn FnMut(Outcome)) {
        let inputs = &self.inputs;
        let reading = |input: usize| Reading { value: inputs[input].0.as_ref(), quality: inputs[input].1 };
        out(self.running.evaluate(at, std::mem::take(&mut self.fresh), &reading));
    }
}
