//! Carries the engine's commands to a reach and what the reach reports back to the engine.

use std::collections::BTreeMap;
use std::future::Future;
use std::time::Duration;

use futures_util::StreamExt as _;
use futures_util::future::{AbortHandle, Abortable, Aborted};
use futures_util::stream::FuturesUnordered;
use serde::Serialize;
use serde_json::json;
use tokio::sync::mpsc;
use zoisite_core::cluster::HostName;
use zoisite_core::sequence::{Command, Engine, Event, Phase, State, StepOutcome, Work};

use crate::Reach;

/// What happened in a run: the one event for the journal, programs and every view. Times are the
/// hosts': real, or virtual in a rehearsal. Written as JSON it is one line of the journal.
#[derive(Clone, Debug, PartialEq)]
pub enum RunEvent {
    /// A step began.
    Began {
        /// Index of the step.
        step: usize,
        /// Its name.
        id: String,
        /// What it is about.
        phase: Phase,
        /// Since the run began.
        at: Duration,
    },
    /// A step says what it is doing or waiting for.
    Doing {
        /// Index of the step.
        step: usize,
        /// Its name.
        id: String,
        /// What it is about.
        phase: Phase,
        /// In a few words.
        what: String,
    },
    /// A step ended.
    Ended {
        /// Index of the step.
        step: usize,
        /// Its name.
        id: String,
        /// What it is about.
        phase: Phase,
        /// How.
        state: State,
        /// Since the run began.
        at: Duration,
        /// How long it took.
        took: Duration,
    },
    /// A person asked to stop: what changes something is waited for, and nothing new is begun.
    Interrupted,
    /// A person asked again: nothing is waited for.
    Stopped,
}

impl Serialize for RunEvent {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let value = match self {
            Self::Began { id, phase, .. } => json!({"step": id, "phase": phase, "is": "begun"}),
            Self::Doing { id, phase, what, .. } => {
                json!({"step": id, "phase": phase, "is": "doing", "what": what})
            }
            Self::Ended { id, phase, state, took, .. } => {
                let seconds = took.as_secs_f64();
                match state {
                    State::Failed(trouble) => {
                        let what = &trouble.answer;
                        json!({"step": id, "phase": phase, "is": "failed", "what": what, "seconds": seconds})
                    }
                    State::Done(changed) => {
                        json!({"step": id, "phase": phase, "is": "done", "changed": changed, "seconds": seconds})
                    }
                    State::Waiting | State::Running | State::NotTaken => {
                        json!({"step": id, "phase": phase, "is": "left"})
                    }
                }
            }
            Self::Interrupted => json!({"is": "interrupted"}),
            Self::Stopped => json!({"is": "stopped"}),
        };
        value.serialize(serializer)
    }
}

/// Takes the engine through its sequence.
///
/// When `interrupt` completes, nothing new is begun, what changes something is waited for, and the run ends.
/// When `stop` completes, it ends at once: steps are left as they run.
pub async fn run(
    engine: &mut Engine,
    reach: &dyn Reach,
    (interrupt, stop): (impl Future<Output = ()>, impl Future<Output = ()>),
    view: &mut (dyn FnMut(&RunEvent, &Engine) + Send),
) {
    let (said, mut saying) = mpsc::unbounded_channel::<(usize, String)>();
    let mut running = FuturesUnordered::new();
    let mut handles: BTreeMap<usize, AbortHandle> = BTreeMap::new();
    let mut began: Vec<Duration> = vec![Duration::ZERO; engine.steps().len()];
    tokio::pin!(interrupt, stop);
    let mut interrupted = false;
    let mut commands = engine.begin();
    loop {
        for Command { step, work } in commands.drain(..) {
            began[step] = reach.elapsed();
            let (id, phase) = named(engine, step);
            view(&RunEvent::Began { step, id, phase, at: began[step] }, engine);
            let said = said.clone();
            let host = engine.steps()[step].host.clone();
            let (handle, leave) = AbortHandle::new_pair();
            handles.insert(step, handle);
            running.push(async move {
                let work = carry_out(reach, host.as_ref(), work, step, said);
                (step, Abortable::new(work, leave).await)
            });
        }
        if running.is_empty() {
            debug_assert!(engine.finished(), "steps are left that nothing can start");
            break;
        }
        let event = tokio::select! {
            biased;
            Some((step, what)) = saying.recv() => {
                let (id, phase) = named(engine, step);
                view(&RunEvent::Doing { step, id, phase, what }, engine);
                continue;
            }
            Some((step, ended)) = running.next() => {
                handles.remove(&step);
                match ended {
                    Ok(outcome) => Event::Finished { step, outcome },
                    Err(Aborted) => Event::Left { step },
                }
            }
            () = &mut interrupt, if !interrupted => {
                interrupted = true;
                view(&RunEvent::Interrupted, engine);
                for (_, handle) in handles.iter().filter(|(step, _)| engine.may_be_left(**step)) {
                    handle.abort();
                }
                Event::Interrupt
            }
            () = &mut stop => {
                view(&RunEvent::Stopped, engine);
                break;
            }
        };
        let step = match &event {
            Event::Finished { step, .. } | Event::Left { step } => Some(*step),
            Event::Interrupt => None,
        };
        commands = engine.handle(event);
        if let Some(step) = step {
            let at = reach.elapsed();
            let took = at.saturating_sub(began[step]);
            let state = engine.states()[step].clone();
            let (id, phase) = named(engine, step);
            view(&RunEvent::Ended { step, id, phase, state, at, took }, engine);
        }
    }
}

fn named(engine: &Engine, step: usize) -> (String, Phase) {
    let step = &engine.steps()[step];
    (step.id.clone(), step.phase)
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
        Work::Member { work, through, seconds } => {
            reach.change_members(&work, &through, seconds, &progress).await
        }
        Work::Save { through, why } => reach.save(&through, &why, &progress).await,
        Work::Rewrite { key, through } => reach.rewrite(&key, &through, &progress).await,
        Work::Fill { host, images } => reach.fill(&host, &images, &progress).await,
        // The engine turns a mark into an ordinary stretch once it knows what to write.
        Work::MarkFormed { .. } => StepOutcome::Done { changed: 0 },
    }
}
