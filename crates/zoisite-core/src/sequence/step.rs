use std::collections::BTreeSet;
use std::fmt;

use serde::Serialize;

use super::differences::Difference;
use crate::cluster::{HostName, Signer};
use crate::components::Shelved;
use crate::diagnosis::Trouble;
use crate::holdings::{ApiObject, NodeWanted, Part};
use crate::item::Component;
use crate::script::Stretch;

/// A condition over the cluster that must hold before what needs it begins.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gate {
    /// What must hold.
    pub condition: Condition,
    /// Deadline, in seconds.
    pub seconds: u32,
}

/// What a gate asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Condition {
    /// These members answer, agree on cluster id and member list, and carry a write.
    Quorum {
        /// The members.
        members: Vec<HostName>,
        /// Some of them may be learners: who says so is left out. (Which ones, nobody knows where the quorum is lost: its
        /// list is not to be had then.)
        learners: bool,
    },
    /// The API server of a host is ready at its own address.
    Api {
        /// The host.
        host: HostName,
    },
    /// The API endpoint, as this host reaches it, answers with this cluster's certificate and is ready.
    Stable {
        /// The host from which it is dialled.
        from: HostName,
        /// Whether the load balancer on that host is dialled, instead of what the name resolves to.
        load_balancer: bool,
    },
    /// The cluster's own registry answers at its host's address.
    Registry {
        /// The host.
        host: HostName,
    },
    /// A node is Ready and stays so for some seconds, and its own kubelet reports again.
    Ready {
        /// The node.
        host: HostName,
        /// Id of the machine at the host's address, where it was looked at: another one's word does not
        /// count.
        machine: Option<String>,
    },
    /// A host meets others through the mesh: what it sends there is answered.
    Meets {
        /// The host.
        host: HostName,
        /// The others.
        others: Vec<HostName>,
    },
    /// A new connection comes through the new rules of a host's firewall; they are kept then.
    LetsIn {
        /// The host.
        host: HostName,
    },
    /// Workloads run as wanted.
    Rollout {
        /// The objects.
        workloads: Vec<ApiObject>,
    },
}

impl Condition {
    /// The one host that it is about.
    pub fn host(&self) -> Option<&HostName> {
        match self {
            Self::Api { host }
            | Self::Registry { host }
            | Self::Ready { host, .. }
            | Self::Meets { host, .. }
            | Self::LetsIn { host } => Some(host),
            Self::Quorum { .. } | Self::Stable { .. } | Self::Rollout { .. } => None,
        }
    }
}

/// What is done through the API.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ApiWork {
    /// Apply objects, in order, under Zoisite's own field manager.
    Apply {
        /// The objects.
        objects: Vec<ApiObject>,
    },
    /// Publish the join token of a host.
    Publish {
        /// The host.
        host: HostName,
    },
    /// Take back tokens that were used.
    Unpublish {
        /// Their ids.
        ids: Vec<String>,
    },
    /// Take back every join token of a host.
    Retract {
        /// The host.
        host: HostName,
    },
    /// Wait for a joining kubelet's request, check and sign it, and give its node what it must have.
    Admit {
        /// What the node object must say.
        node: NodeWanted,
        /// Who signs.
        signer: Signer,
        /// Deadline, in seconds.
        seconds: u32,
    },
    /// Check and sign a node's request for its next certificate.
    Renew {
        /// The node.
        host: HostName,
        /// Name of the request.
        request: String,
    },
    /// Refuse an unexpected request.
    Deny {
        /// Name of the request.
        request: String,
        /// Why.
        why: String,
    },
    /// Put a node object right: labels, taints, pod subnets.
    SetNode {
        /// What it must say.
        node: NodeWanted,
    },
    /// Let no more pods onto a node.
    Close {
        /// The node.
        host: HostName,
    },
    /// Have the pods of a node that is closed leave it, within their disruption budgets.
    Drain {
        /// The node.
        host: HostName,
        /// Also pods without a controller, which start nowhere else.
        delete_unmanaged_pods: bool,
        /// Deadline, in seconds.
        seconds: u32,
    },
    /// Have workloads read again whom they believe, once it is published for pods.
    Believe {
        /// The authorities' certificates, PEM.
        bundle: String,
        /// Who reads it once, at the start.
        workloads: Vec<ApiObject>,
        /// Deadline, in seconds.
        seconds: u32,
    },
    /// Remove the node object of a machine that is no longer behind this name.
    RemoveNode {
        /// The node.
        host: HostName,
    },
}

/// A change of who is a member of the quorum, or where. Each looks first whether it is done already.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum MemberWork {
    /// Let a member in as a learner.
    Learn {
        /// The host.
        host: HostName,
        /// Where the others will dial it.
        url: String,
    },
    /// Wait until a learner has everything, and give it its vote. One that does not catch up in time is taken back.
    Promote {
        /// The host.
        host: HostName,
        /// Its id.
        id: String,
    },
    /// Take a member out. One that leads gives that to another one first.
    Remove {
        /// Its id.
        id: String,
        /// What people call it.
        who: String,
        /// It goes as a learner: one that got its vote meanwhile stays.
        learner: bool,
    },
    /// Have the others dial a member elsewhere.
    Move {
        /// The host.
        host: HostName,
        /// Its id.
        id: String,
        /// Where they will dial it.
        url: String,
    },
}

impl MemberWork {
    /// What undoes it where it does not come about: a learner that does not catch up goes again.
    pub fn taken_back(&self) -> Option<Self> {
        match self {
            Self::Promote { host, id } => {
                Some(Self::Remove { id: id.clone(), who: host.to_string(), learner: true })
            }
            Self::Learn { .. } | Self::Remove { .. } | Self::Move { .. } => None,
        }
    }
}

/// What a step does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Work {
    /// Bring components to a host, one after another.
    Upload {
        /// The host.
        host: HostName,
        /// What to bring, each with its checksum.
        components: Vec<(Component, String)>,
    },
    /// Carry out operations on a host, in one round trip.
    Act(Stretch),
    /// Prove a condition.
    Gate(Gate),
    /// Do something through the API.
    Api(ApiWork),
    /// Change the membership of the quorum.
    Member {
        /// How.
        work: MemberWork,
        /// Members that are well: one of them is asked.
        through: Vec<HostName>,
        /// Deadline, in seconds.
        seconds: u32,
    },
    /// Save what etcd holds, off its hosts (rule S10).
    Save {
        /// Members that are well: one of them gives what it holds.
        through: Vec<HostName>,
        /// Before what.
        why: String,
    },
    /// Have API servers write every secret again that etcd holds encrypted by another key, or not at all.
    Rewrite {
        /// Name of the key that they encrypt by.
        key: String,
        /// Members that are well: one of them shows what is left.
        through: Vec<HostName>,
    },
    /// Put images into the cluster's own registry.
    Fill {
        /// Its host.
        host: HostName,
        /// The images.
        images: Vec<Shelved>,
    },
    /// Note on a host that the quorum was proven; the gate before it says with which cluster id.
    MarkFormed {
        /// The host.
        host: HostName,
        /// Path of the mark.
        path: String,
        /// Its owner.
        owner: &'static str,
    },
}

/// What must have become of the steps that a step needs.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum When {
    /// All are done.
    #[default]
    Done,
    /// All have ended, some of them perhaps by failing: others carry what it does.
    Ended,
    /// All have ended, in whatever way, and one was begun: it tidies up, also after an interrupt.
    Begun,
}

/// What a step is about: how a person would divide the time of a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Phase {
    /// Making bare machines ready.
    Preparation,
    /// The encrypted network through which hosts connect to one another.
    Mesh,
    /// Bringing programs and images.
    Components,
    /// Writing configuration before a start.
    Configuration,
    /// The etcd quorum.
    Quorum,
    /// API servers, controller managers, schedulers.
    ControlPlane,
    /// The load balancers in front of them.
    LoadBalancers,
    /// The virtual IP.
    Address,
    /// The cluster's own registry, and its images.
    Registry,
    /// What gives out metrics.
    Monitoring,
    /// What the cluster itself must hold before nodes join.
    Rights,
    /// Nodes that are in.
    Nodes,
    /// Nodes that are let in.
    Joins,
    /// DNS in the cluster.
    Dns,
    /// The site's own manifests.
    Manifests,
    /// Requests of kubelets that wait for an answer.
    Requests,
}

impl Phase {
    /// Of what is changed of a part that runs.
    pub fn of(part: Part) -> Self {
        match part {
            Part::Preparation => Self::Preparation,
            Part::Mesh => Self::Mesh,
            Part::Etcd => Self::Quorum,
            Part::ControlPlane => Self::ControlPlane,
            Part::LoadBalancer => Self::LoadBalancers,
            Part::Address => Self::Address,
            Part::Registry => Self::Registry,
            Part::Monitoring => Self::Monitoring,
            Part::Nodes => Self::Nodes,
        }
    }
}

impl fmt::Display for Phase {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Preparation => "preparation",
            Self::Mesh => "mesh",
            Self::Components => "components",
            Self::Configuration => "configuration",
            Self::Quorum => "quorum",
            Self::ControlPlane => "control plane",
            Self::LoadBalancers => "load-balancers",
            Self::Address => "address",
            Self::Registry => "registry",
            Self::Rights => "rights",
            Self::Nodes => "nodes",
            Self::Joins => "joins",
            Self::Monitoring => "monitoring",
            Self::Dns => "DNS",
            Self::Manifests => "manifests",
            Self::Requests => "requests",
        })
    }
}

/// One step of a sequence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// Name, unique in the sequence: `heron/start`, `quorum`.
    pub id: String,
    /// The host; `None` for a gate.
    pub host: Option<HostName>,
    /// What it is about.
    pub phase: Phase,
    /// What is done, in a few words.
    pub what: String,
    /// Why: the differences that it removes, or what it guards.
    pub why: Vec<String>,
    /// Indices of the steps that must be done before.
    pub needs: Vec<usize>,
    /// What is interrupted for a while.
    pub disrupts: BTreeSet<Part>,
    /// What must have become of what it needs.
    pub when: When,
    /// It belongs to the joining of a host; failures of those have a budget.
    pub joins: bool,
    /// The work itself.
    pub work: Work,
}

impl Step {
    /// A step that needs nothing and interrupts nothing.
    pub fn new(id: impl Into<String>, phase: Phase, what: impl Into<String>, work: Work) -> Self {
        Self {
            id: id.into(),
            host: None,
            phase,
            what: what.into(),
            why: Vec::new(),
            needs: Vec::new(),
            disrupts: BTreeSet::new(),
            when: When::Done,
            joins: false,
            work,
        }
    }

    /// The same, on a host.
    pub fn on(mut self, host: &HostName) -> Self {
        self.host = Some(host.clone());
        self
    }

    /// The same, with its reasons.
    pub fn because(mut self, why: impl IntoIterator<Item = String>) -> Self {
        self.why.extend(why);
        self
    }

    /// The same, after other steps.
    pub fn after(mut self, needs: impl IntoIterator<Item = usize>) -> Self {
        self.needs.extend(needs);
        self
    }

    /// Its own part of its name, without its host.
    pub fn name(&self) -> &str {
        self.id.rsplit('/').next().unwrap_or(&self.id)
    }
}

/// What a run would do, in an order that respects every need.
#[derive(Clone, Debug, Default)]
pub struct Sequence {
    /// Steps; each needs only steps before it.
    pub steps: Vec<Step>,
    /// The differences that the steps remove.
    pub differences: Vec<Difference>,
    /// So many nodes may be interrupted at once, when the first one has come back; at least one.
    pub nodes_at_once: usize,
    /// Hosts that are unfit, and why: nothing is done there, and what needs them is not done either.
    pub left_out: Vec<Trouble>,
}

impl Sequence {
    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.steps.is_empty()
    }

    /// The hosts on which something is done.
    pub fn hosts(&self) -> BTreeSet<&HostName> {
        self.steps.iter().filter_map(|step| step.host.as_ref()).collect()
    }

    /// The steps on these hosts, with the gates before and after them: no other host is changed. Also the hosts that lose
    /// steps, and the differences there.
    pub fn only(
        mut self,
        hosts: &BTreeSet<HostName>,
    ) -> (Self, (BTreeSet<HostName>, Vec<Difference>)) {
        let named = |host: &HostName| hosts.contains(host);
        let mut before = vec![false; self.steps.len()];
        for (index, step) in self.steps.iter().enumerate().rev() {
            if before[index] || step.host.as_ref().is_some_and(named) {
                step.needs.iter().for_each(|need| before[*need] = true);
            }
        }
        // What a step needs through steps that are left out is needed all the same.
        let mut needs: Vec<BTreeSet<usize>> = Vec::new();
        let mut place: Vec<Option<usize>> = Vec::new();
        let (mut kept, mut idle) = (Vec::new(), BTreeSet::new());
        for (index, mut step) in std::mem::take(&mut self.steps).into_iter().enumerate() {
            let follows = step.needs.iter().any(|need| place[*need].is_some());
            let keep = match (&step.host, &step.work) {
                (Some(host), _) => named(host),
                (None, Work::Gate(gate)) => match gate.condition.host() {
                    Some(host) => named(host) && (before[index] || follows),
                    // A proof between two steps is of no use without them.
                    None => {
                        let first = step.needs.is_empty();
                        let stable = matches!(gate.condition, Condition::Stable { .. });
                        follows || (before[index] && (first || stable))
                    }
                },
                (None, _) => before[index] || (follows && step.when != When::Done),
            };
            let through = step.needs.iter().flat_map(|need| match place[*need] {
                Some(at) => BTreeSet::from([at]),
                None => needs[*need].clone(),
            });
            let through: BTreeSet<usize> = through.collect();
            place.push(keep.then_some(kept.len()));
            if keep {
                step.needs = through.iter().copied().collect();
                kept.push(step);
            } else {
                idle.extend(step.host);
            }
            needs.push(through);
        }
        self.steps = kept;
        let (differences, left) = std::mem::take(&mut self.differences)
            .into_iter()
            .partition(|difference| named(&difference.host));
        self.differences = differences;
        (self, (idle, left))
    }

    /// Whether it saves what etcd holds.
    pub fn saves(&self) -> bool {
        self.steps.iter().any(|step| matches!(step.work, Work::Save { .. }))
    }
}

/// What a proven gate showed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Proven {
    /// etcd's cluster id, in hexadecimal, on which all members agree.
    pub cluster_id: String,
    /// Name of the leader.
    pub leader: String,
    /// Member through which the key was written.
    pub wrote: String,
    /// Members through which it was read back.
    pub read: Vec<String>,
}

/// How a step ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StepOutcome {
    /// It is done; so many things changed.
    Done {
        /// Number of things that changed.
        changed: usize,
    },
    /// The gate holds.
    Proven(Proven),
    /// It failed.
    Failed(Trouble),
}

impl StepOutcome {
    /// Whether it ended well, whatever it was.
    ///
    /// # Errors
    /// Why it failed.
    pub fn ended(self) -> Result<(), Trouble> {
        match self {
            Self::Failed(trouble) => Err(trouble),
            Self::Done { .. } | Self::Proven(_) => Ok(()),
        }
    }
}
