//! The state machine that takes a sequence: events in, commands out. It holds all state of a run and
//! touches nothing.

use std::collections::{BTreeMap, BTreeSet};

use super::budget::{Budget, Class};
use super::step::{Proven, Sequence, Step, StepOutcome, When, Work};
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

/// A run's state. What an event costs is in proportion to what it frees: each step counts what it waits for, and
/// those that wait for nothing stand in a queue.
#[derive(Clone, Debug)]
pub struct Engine {
    steps: Vec<Step>,
    states: Vec<State>,
    /// Of each step, those that need it.
    needed_by: Vec<Vec<usize>>,
    needs: Vec<Needs>,
    /// Steps that could run now, in the order of the sequence, a queue for each class.
    ready: [BTreeSet<usize>; 3],
    running: usize,
    waiting: usize,
    limit: usize,
    joining: Joining,
    interrupted: bool,
    proven: Option<Proven>,
    /// What is disrupted (rule S2).
    budget: Budget,
}

/// What became of the steps that a step needs.
#[derive(Clone, Copy, Debug)]
struct Needs {
    all: usize,
    /// Those that have not ended.
    open: usize,
    /// Those that failed or were not taken.
    missed: usize,
    /// Those that were not taken.
    not_taken: usize,
}

/// How hosts join, held against the budget of failures.
#[derive(Clone, Debug, Default)]
struct Joining {
    budget: Option<usize>,
    /// Of each host, the steps of its joining, and how many of them run or are done.
    hosts: BTreeMap<Option<HostName>, (Vec<usize>, usize)>,
    failed: BTreeSet<HostName>,
}

impl Joining {
    /// Whether so many hosts failed to join that no other is begun. Hosts that were begun go on.
    fn is_over(&self, step: &Step) -> bool {
        let Some(budget) = self.budget.filter(|_| step.joins) else { return false };
        let begun = self.hosts.get(&step.host).is_some_and(|(_, begun)| *begun > 0);
        !begun && self.failed.len() > budget
    }
}

impl Engine {
    /// An engine for `sequence`, with at most `limit` steps running at once.
    pub fn new(sequence: Sequence, limit: usize) -> Self {
        let Sequence { steps, nodes_at_once, .. } = sequence;
        let mut needed_by: Vec<Vec<usize>> = vec![Vec::new(); steps.len()];
        let mut joining = Joining::default();
        for (i, step) in steps.iter().enumerate() {
            for need in &step.needs {
                needed_by[*need].push(i);
            }
            if step.joins {
                joining.hosts.entry(step.host.clone()).or_default().0.push(i);
            }
        }
        let needs = steps.iter().map(|step| {
            let all = step.needs.len();
            Needs { all, open: all, missed: 0, not_taken: 0 }
        });
        let mut engine = Self {
            states: vec![State::Waiting; steps.len()],
            needs: needs.collect(),
            ready: Default::default(),
            running: 0,
            waiting: steps.len(),
            limit: limit.max(1),
            joining,
            interrupted: false,
            proven: None,
            budget: Budget::new(nodes_at_once),
            needed_by,
            steps,
        };
        (0..engine.steps.len()).for_each(|step| engine.queue(step));
        engine
    }

    /// Begins no further host's joining once more than this many failed to join.
    pub fn with_budget(mut self, failures: usize) -> Self {
        self.joining.budget = Some(failures);
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
            Event::Interrupt => {
                self.interrupted = true;
                let waiting = (0..self.steps.len()).filter(|i| self.states[*i] == State::Waiting);
                let waiting: Vec<usize> = waiting.collect();
                self.give_up(waiting);
            }
            Event::Left { step } => {
                debug_assert!(self.may_be_left(step), "{}", self.steps[step].id);
                self.end(step, State::NotTaken);
            }
            Event::Finished { step, outcome } => {
                debug_assert_eq!(self.states[step], State::Running, "{}", self.steps[step].id);
                if let (Work::Gate(_), StepOutcome::Done { .. } | StepOutcome::Proven(_)) =
                    (&self.steps[step].work, &outcome)
                {
                    self.budget.back(&self.steps[step].needs);
                }
                let state = match outcome {
                    StepOutcome::Done { changed } => State::Done(changed),
                    StepOutcome::Proven(proven) => {
                        self.proven = Some(proven);
                        State::Done(0)
                    }
                    StepOutcome::Failed(trouble) => State::Failed(trouble),
                };
                self.end(step, state);
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
        self.running == 0 && self.waiting == 0
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

    /// Puts a step that waits into its queue, where all that it needs has ended.
    fn queue(&mut self, step: usize) {
        if self.states[step] == State::Waiting && self.needs[step].open == 0 {
            self.ready[self.class(step) as usize].insert(step);
        }
    }

    /// Whether a step that waits will never run.
    fn is_hopeless(&self, step: usize) -> bool {
        let needs = self.needs[step];
        // There is nothing to tidy where nothing was begun.
        let in_vain = needs.all > 0 && needs.not_taken == needs.all;
        let stopped = || {
            let over = self.budget.is_over(self.class(step));
            self.interrupted || over || self.joining.is_over(&self.steps[step])
        };
        match self.steps[step].when {
            When::Done => needs.missed > 0 || stopped(),
            When::Ended => in_vain || stopped(),
            When::Begun => in_vain,
        }
    }

    /// Takes a step to its end, and with it those that it leaves without hope.
    fn end(&mut self, step: usize, state: State) {
        let (is, was_running) = (&self.steps[step], self.states[step] == State::Running);
        match was_running {
            true => self.running -= 1,
            false => self.waiting -= 1,
        }
        self.ready[Class::of(is) as usize].remove(&step);
        let failed = matches!(state, State::Failed(_));
        let missed = failed || state == State::NotTaken;
        let not_taken = state == State::NotTaken;
        let mut look_again = Vec::new();
        if failed && self.budget.failed(step, &is.needs) {
            let nodes = (0..self.steps.len()).filter(|other| self.class(*other) == Class::Node);
            look_again.extend(nodes);
        }
        if is.joins {
            let was_over = self.joining.budget.is_some_and(|n| self.joining.failed.len() > n);
            if failed && let Some(host) = &is.host {
                self.joining.failed.insert(host.clone());
            }
            if let Some((steps, begun)) = self.joining.hosts.get_mut(&is.host)
                && was_running
                && missed
            {
                *begun -= 1;
                look_again.extend(steps.iter().copied());
            }
            let is_over = self.joining.budget.is_some_and(|n| self.joining.failed.len() > n);
            if is_over && !was_over {
                look_again.extend(self.joining.hosts.values().flat_map(|(steps, _)| steps));
            }
        }
        self.states[step] = state;
        for other in std::mem::take(&mut self.needed_by[step]) {
            let needs = &mut self.needs[other];
            needs.open -= 1;
            needs.missed += usize::from(missed);
            needs.not_taken += usize::from(not_taken);
            self.queue(other);
            look_again.push(other);
        }
        self.give_up(look_again);
    }

    /// Gives up those of these steps that will never run.
    fn give_up(&mut self, steps: Vec<usize>) {
        for step in steps {
            if self.states[step] == State::Waiting && self.is_hopeless(step) {
                self.end(step, State::NotTaken);
            }
        }
    }

    fn start_what_can(&mut self) -> Vec<Command> {
        let mut commands = Vec::new();
        while self.running < self.limit {
            // Rule S2 at the last instant: what disrupts waits while the budget of its class is used up.
            let open = [Class::Quiet, Class::Node, Class::All].into_iter().filter_map(|class| {
                let first = self.ready[class as usize].first()?;
                self.budget.admits(class).then_some((*first, class))
            });
            let Some((step, class)) = open.min_by_key(|(step, _)| *step) else { break };
            self.ready[class as usize].remove(&step);
            self.budget.begun(step, class);
            self.states[step] = State::Running;
            self.running += 1;
            self.waiting -= 1;
            if self.steps[step].joins
                && let Some((_, begun)) = self.joining.hosts.get_mut(&self.steps[step].host)
            {
                *begun += 1;
            }
            commands.push(Command { step, work: self.work(step) });
        }
        let stranded: BTreeSet<usize> = match self.running {
            0 => self.ready.iter_mut().flat_map(std::mem::take).collect(),
            _ => BTreeSet::new(),
        };
        if !stranded.is_empty() {
            // What was disrupted did not come back, and nothing is left that could bring it back.
            for step in stranded {
                self.end(step, State::NotTaken);
            }
            // What tidies up after them may be free now.
            commands.extend(self.start_what_can());
        }
        commands
    }

    fn class(&self, step: usize) -> Class {
        Class::of(&self.steps[step])
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
