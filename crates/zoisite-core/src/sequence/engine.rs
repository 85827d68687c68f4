//! The state machine that takes a sequence: events in, commands out. It holds all state of a run and
//! touches nothing.

use std::collections::BTreeSet;

use super::step::{Proven, Sequence, Step, StepOutcome, When, Work};
use crate::blueprint::Part;
use crate::cluster::HostName;
use crate::diagnosis::Trouble;
use crate::script::{Operation, Stretch};

/// Where a step stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum State {
    /// What it needs is not done.
    Waiting,
    /// It was started.
    Running,
    /// It is done; so many things changed.
    Done(usize),
    /// It failed.
    Failed(Trouble),
    /// What it needs failed or was not taken, or the run was interrupted.
    NotTaken,
}

/// What the runner must carry out: exactly one step's work, then report its [`Event::Finished`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Command {
    /// Index of the step.
    pub step: usize,
    /// What to do.
    pub work: Work,
}

/// What the runner reports.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Event {
    /// A step ended.
    Finished {
        /// Index of the step.
        step: usize,
        /// How.
        outcome: StepOutcome,
    },
    /// A person wants to stop: nothing new is begun, what changes something is waited for.
    Interrupt,
    /// A gate that ran was left after an interrupt: it changes nothing, and may wait for long.
    Left {
        /// Index of the step.
        step: usize,
    },
}

/// Counts of a run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Tally {
    /// Steps done.
    pub done: usize,
    /// Steps that failed.
    pub failed: usize,
    /// Steps not taken.
    pub not_taken: usize,
    /// Things changed on hosts.
    pub changed: usize,
}

/// A run's state.
#[derive(Clone, Debug)]
pub struct Engine {
    steps: Vec<Step>,
    states: Vec<State>,
    limit: usize,
    budget: Option<usize>,
    interrupted: bool,
    proven: Option<Proven>,
    /// Disrupting steps that were begun and not followed by a gate that held (rule S2).
    disrupted: BTreeSet<usize>,
}

impl Engine {
    /// An engine for `sequence`, with at most `limit` steps running at once.
    pub fn new(sequence: Sequence, limit: usize) -> Self {
        let states = vec![State::Waiting; sequence.steps.len()];
        Self {
            steps: sequence.steps,
            states,
            limit: limit.max(1),
            budget: None,
            interrupted: false,
            proven: None,
            disrupted: BTreeSet::new(),
        }
    }

    /// Begins no further host's joining once more than this many failed to join.
    pub fn with_budget(mut self, failures: usize) -> Self {
        self.budget = Some(failures);
        self
    }

    /// The commands with which a run begins.
    pub fn begin(&mut self) -> Vec<Command> {
        self.start_what_can()
    }

    /// Takes one event and returns what to do next; empty when there is nothing new to start.
    #[must_use = "commands that are not carried out stop the run"]
    pub fn handle(&mut self, event: Event) -> Vec<Command> {
        match event {
            Event::Interrupt => self.interrupted = true,
            Event::Left { step } => {
                debug_assert!(self.may_be_left(step), "{}", self.steps[step].id);
                self.states[step] = State::NotTaken;
            }
            Event::Finished { step, outcome } => {
                debug_assert_eq!(self.states[step], State::Running, "{}", self.steps[step].id);
                if let (Work::Gate(_), StepOutcome::Done { .. } | StepOutcome::Proven(_)) =
                    (&self.steps[step].work, &outcome)
                {
                    // What was disrupted before this gate is back.
                    self.disrupted.retain(|disrupted| !self.steps[step].needs.contains(disrupted));
                }
                self.states[step] = match outcome {
                    StepOutcome::Done { changed } => State::Done(changed),
                    StepOutcome::Proven(proven) => {
                        self.proven = Some(proven);
                        State::Done(0)
                    }
                    StepOutcome::Failed(trouble) => State::Failed(trouble),
                };
            }
        }
        self.start_what_can()
    }

    /// Whether a step runs that need not be waited for after an interrupt.
    pub fn may_be_left(&self, step: usize) -> bool {
        self.states[step] == State::Running && matches!(self.steps[step].work, Work::Gate(_))
    }

    /// Whether nothing runs and nothing more can be started.
    pub fn finished(&self) -> bool {
        !self.states.iter().any(|state| matches!(state, State::Running | State::Waiting))
    }

    /// The steps.
    pub fn steps(&self) -> &[Step] {
        &self.steps
    }

    /// Where each step stands.
    pub fn states(&self) -> &[State] {
        &self.states
    }

    /// What the last gate showed.
    pub fn proven(&self) -> Option<&Proven> {
        self.proven.as_ref()
    }

    /// The failures, in the order of the steps.
    pub fn troubles(&self) -> impl Iterator<Item = &Trouble> {
        self.states.iter().filter_map(|state| match state {
            State::Failed(trouble) => Some(trouble),
            _ => None,
        })
    }

    /// Counts.
    pub fn tally(&self) -> Tally {
        let mut tally = Tally::default();
        for state in &self.states {
            match state {
                State::Done(changed) => {
                    tally.done += 1;
                    tally.changed += changed;
                }
                State::Failed(_) => tally.failed += 1,
                State::NotTaken => tally.not_taken += 1,
                State::Waiting | State::Running => {}
            }
        }
        tally
    }

    fn start_what_can(&mut self) -> Vec<Command> {
        let mut commands = Vec::new();
        for step in 0..self.steps.len() {
            if self.states[step] != State::Waiting {
                continue;
            }
            let needs = self.steps[step].needs.iter().map(|need| &self.states[*need]);
            let when = self.steps[step].when;
            let ready = needs.clone().all(|state| match state {
                State::Done(_) => true,
                State::Failed(_) | State::NotTaken => when != When::Done,
                State::Waiting | State::Running => false,
            });
            let stopped = self.interrupted || self.over_budget(step);
            let in_vain = || {
                let mut all = needs.clone().peekable();
                ready && all.peek().is_some() && all.all(|state| *state == State::NotTaken)
            };
            let hopeless = match when {
                When::Done => {
                    stopped
                        || needs
                            .clone()
                            .any(|state| matches!(state, State::Failed(_) | State::NotTaken))
                }
                When::Ended => stopped || in_vain(),
                // There is nothing to tidy where nothing was begun.
                When::Begun => in_vain(),
            };
            if hopeless {
                self.states[step] = State::NotTaken;
                continue;
            }
            if !ready || self.running() >= self.limit || !self.one_at_a_time(step) {
                continue;
            }
            self.states[step] = State::Running;
            if self.disrupts_all(step) {
                self.disrupted.insert(step);
            }
            commands.push(Command { step, work: self.work(step) });
        }
        commands
    }

    /// Whether so many hosts failed to join that no other is begun. Hosts that were begun go on.
    fn over_budget(&self, step: usize) -> bool {
        let Some(budget) = self.budget.filter(|_| self.steps[step].joins) else { return false };
        let of_host = |wanted: &dyn Fn(&State) -> bool, host: Option<&HostName>| {
            self.steps
                .iter()
                .zip(&self.states)
                .any(|(other, state)| other.joins && other.host.as_ref() == host && wanted(state))
        };
        let own = self.steps[step].host.as_ref();
        if of_host(&|state| matches!(state, State::Done(_) | State::Running), own) {
            return false;
        }
        let failed: BTreeSet<_> = self
            .steps
            .iter()
            .zip(&self.states)
            .filter(|(other, state)| other.joins && matches!(state, State::Failed(_)))
            .filter_map(|(other, _)| other.host.as_ref())
            .collect();
        failed.len() > budget
    }

    fn running(&self) -> usize {
        self.states.iter().filter(|state| **state == State::Running).count()
    }

    /// Rule S2 at the last instant: a step that disrupts what all depend on waits while the gate after another
    /// one has not held. (Nodes restart a few at a time, in lanes.)
    fn one_at_a_time(&self, step: usize) -> bool {
        !self.disrupts_all(step) || self.disrupted.is_empty()
    }

    fn disrupts_all(&self, step: usize) -> bool {
        self.steps[step].disrupts.is_some_and(|part| part != Part::Nodes)
    }

    fn work(&self, step: usize) -> Work {
        match &self.steps[step].work {
            Work::MarkFormed { host, path, owner } => {
                let text = self.proven.as_ref().map_or("", |p| p.cluster_id.as_str()).to_owned();
                Work::Act(Stretch {
                    host: host.clone(),
                    operations: vec![Operation::Mark { path: path.clone(), owner, text }],
                })
            }
            work => work.clone(),
        }
    }
}
