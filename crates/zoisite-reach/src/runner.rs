//! Carries the engine's commands to a reach and what the reach reports back to the engine.

use std::future::Future;
use std::time::Duration;

use futures_util::StreamExt as _;
use futures_util::stream::FuturesUnordered;
use tokio::sync::mpsc;
use zoisite_core::cluster::HostName;
use zoisite_core::sequence::{Command, Engine, Event, State, StepOutcome, Work};

use crate::Reach;

/// What a view is told. Times are the reach's: real, or virtual in a rehearsal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RunEvent {
    /// A step began.
    Began {
        /// Index of the step.
        step: usize,
        /// Since the run began.
        at: Duration,
    },
    /// A step says what it is doing or waiting for.
    Doing {
        /// Index of the step.
        step: usize,
        /// In a few words.
        what: String,
    },
    /// A step ended.
    Ended {
        /// Index of the step.
        step: usize,
        /// How.
        state: State,
        /// Since the run began.
        at: Duration,
        /// How long it took.
        took: Duration,
    },
    /// A person asked to stop; what runs is waited for.
    Interrupted,
}

/// Takes the engine through its sequence.
///
/// When `interrupt` completes, nothing new is begun, what runs is waited for, and the run ends.
pub async fn run(
    engine: &mut Engine,
    reach: &dyn Reach,
    interrupt: impl Future<Output = ()>,
    view: &mut (dyn FnMut(&RunEvent, &Engine) + Send),
) {
    let (said, mut saying) = mpsc::unbounded_channel::<(usize, String)>();
    let mut running = FuturesUnordered::new();
    let mut began: Vec<Duration> = vec![Duration::ZERO; engine.steps().len()];
    tokio::pin!(interrupt);
    let mut interrupted = false;
    let mut commands = engine.begin();
    loop {
        for Command { step, work } in commands.drain(..) {
            began[step] = reach.elapsed();
            view(&RunEvent::Began { step, at: began[step] }, engine);
            let said = said.clone();
            let host = engine.steps()[step].host.clone();
            running.push(
                async move { (step, carry_out(reach, host.as_ref(), work, step, said).await) },
            );
        }
        if running.is_empty() {
            debug_assert!(engine.finished(), "steps are left that nothing can start");
            break;
        }
        let event = tokio::select! {
            biased;
            Some((step, what)) = saying.recv() => {
                view(&RunEvent::Doing { step, what }, engine);
                continue;
            }
            Some((step, outcome)) = running.next() => Event::Finished { step, outcome },
            () = &mut interrupt, if !interrupted => {
                interrupted = true;
                view(&RunEvent::Interrupted, engine);
                Event::Interrupt
            }
        };
        let step = match &event {
            Event::Finished { step, .. } => Some(*step),
            Event::Interrupt => None,
        };
        commands = engine.handle(event);
        if let Some(step) = step {
            let at = reach.elapsed();
            let took = at.saturating_sub(began[step]);
            let state = engine.states()[step].clone();
            view(&RunEvent::Ended { step, state, at, took }, engine);
        }
    }
}

async fn carry_out(
    reach: &dyn Reach,
    host: Option<&HostName>,
    work: Work,
    step: usize,
    said: mpsc::UnboundedSender<(usize, String)>,
) -> StepOutcome {
    let progress = move |what: String| {
        // A view that is gone does not matter to the work.
        let _ = said.send((step, what));
    };
    match work {
        Work::Act(stretch) => reach.act(&stretch, &progress).await,
        Work::Gate(gate) => reach.prove(&gate, &progress).await,
        Work::Api(work) => reach.api(host, &work, &progress).await,
        Work::Upload { host, components } => {
            let mut total = 0;
            for (component, sha256) in components {
                match reach.upload(&host, &component, &sha256, &progress).await {
                    StepOutcome::Done { changed } => total += changed,
                    other => return other,
                }
            }
            StepOutcome::Done { changed: total }
        }
        // The engine turns a mark into an ordinary stretch once it knows what to write.
        Work::MarkFormed { .. } => StepOutcome::Done { changed: 0 },
    }
}
