//! What is lost, where and how; and what forbids it.

use serde::{Deserialize, Serialize};

use crate::cluster::{Cluster, HostName, Role};
use crate::holdings::{API_SERVER_UNIT, ETCD_UNIT, KUBELET_UNIT, LOAD_BALANCER_UNIT};
use crate::sequence::{Refusal, Rule};

/// A kind of loss.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// The host that holds the virtual IP.
    Holder,
    /// A load balancer.
    LoadBalancer,
    /// An API server.
    ApiServer,
    /// An etcd member that follows.
    Member,
    /// The etcd member that leads.
    Leader,
    /// A host of the control plane, with all that is on it.
    ControlPlane,
    /// A worker.
    Worker,
    /// Packets from one host to another.
    Link,
}

/// How something is lost.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum By {
    /// Its unit is stopped.
    Stop,
    /// Its host's packet filter lets nothing through but the login.
    Cut,
    /// Its host starts again.
    Reboot,
}

impl By {
    /// Every way.
    pub const ALL: [Self; 3] = [Self::Stop, Self::Cut, Self::Reboot];

    /// What is done, for people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Stop => "its unit is stopped",
            Self::Cut => "its host's packet filter lets nothing through but the login",
            Self::Reboot => "its host starts again",
        }
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Stop => "stop",
            Self::Cut => "cut",
            Self::Reboot => "reboot",
        }
    }
}

impl Kind {
    /// Every kind, in the order in which they are shown.
    pub const ALL: [Self; 8] = [
        Self::Holder,
        Self::LoadBalancer,
        Self::ApiServer,
        Self::Member,
        Self::Leader,
        Self::ControlPlane,
        Self::Worker,
        Self::Link,
    ];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Holder => "holder",
            Self::LoadBalancer => "load-balancer",
            Self::ApiServer => "api-server",
            Self::Member => "member",
            Self::Leader => "leader",
            Self::ControlPlane => "control-plane",
            Self::Worker => "worker",
            Self::Link => "link",
        }
    }

    /// What it is, for people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Holder => "the host that holds the virtual IP",
            Self::LoadBalancer => "a load balancer",
            Self::ApiServer => "an API server",
            Self::Member => "an etcd member that follows",
            Self::Leader => "the etcd member that leads",
            Self::ControlPlane => "a control-plane host with all that is on it",
            Self::Worker => "a worker",
            Self::Link => "packets from one host to another",
        }
    }

    /// How it can be lost; the first is what is done unless something else is said.
    pub fn ways(self) -> &'static [By] {
        match self {
            Self::Holder | Self::ControlPlane => &[By::Cut, By::Reboot],
            Self::LoadBalancer | Self::Leader => &[By::Stop, By::Cut, By::Reboot],
            Self::ApiServer | Self::Member => &[By::Stop],
            Self::Worker => &[By::Cut, By::Stop, By::Reboot],
            Self::Link => &[By::Cut],
        }
    }

    /// For how many seconds unless something else is said: long enough to see what follows. A node counts as lost
    /// after 40 to 50 s (the controller manager's `--node-monitor-grace-period`), and its pods leave after that.
    pub fn seconds(self) -> u32 {
        match self {
            Self::Worker => 90,
            Self::ControlPlane => 60,
            _ => 20,
        }
    }

    /// The hosts that it can be about, by the file alone.
    pub fn places(self, cluster: &Cluster) -> Vec<HostName> {
        match self {
            Self::Holder => cluster.virtual_ip_holders(),
            Self::LoadBalancer => {
                let load_balancers = cluster.load_balancers.hosts.iter();
                load_balancers.filter(|host| !cluster.is_offline(host)).cloned().collect()
            }
            Self::ApiServer | Self::ControlPlane => cluster.control_plane.hosts.clone(),
            Self::Member | Self::Leader => cluster.etcd.members.clone(),
            // An offline host cannot be lost on purpose.
            Self::Worker => {
                let dialled = |host: &&HostName| !cluster.is_offline(host);
                cluster.workers.hosts.iter().filter(dialled).cloned().collect()
            }
            Self::Link => {
                let dialled = cluster.hosts.iter().filter(|host| !host.offline);
                dialled.map(|host| host.name.clone()).collect()
            }
        }
    }

    /// The unit that is stopped, and the role of the hosts that have one, where it can be lost so.
    fn unit(self) -> Option<(&'static str, Role)> {
        match self {
            Self::Holder | Self::ControlPlane | Self::Link => None,
            Self::LoadBalancer => Some((LOAD_BALANCER_UNIT, Role::LoadBalancer)),
            Self::ApiServer => Some((API_SERVER_UNIT, Role::ControlPlane)),
            Self::Member | Self::Leader => Some((ETCD_UNIT, Role::EtcdMember)),
            Self::Worker => Some((KUBELET_UNIT, Role::Worker)),
        }
    }
}

/// What a person asks for.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// What is lost.
    pub kind: Kind,
    /// Where; for a link, who gets no packets.
    pub host: Option<HostName>,
    /// Of a link: whom it does not hear.
    pub from: Option<HostName>,
    /// How.
    pub by: Option<By>,
    /// For how many seconds.
    pub seconds: Option<u32>,
}

/// How things stand, as far as the choice needs it.
#[derive(Clone, Debug, Default)]
pub struct Stands {
    /// Who holds the virtual IP.
    pub holder: Option<HostName>,
    /// The etcd member that leads.
    pub leader: Option<HostName>,
    /// What is not well already, in words.
    pub ailing: Vec<String>,
}

/// One loss, settled.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Drill {
    /// What is lost.
    pub kind: Kind,
    /// Where.
    pub host: HostName,
    /// Of a link: whom the host does not hear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<HostName>,
    /// How.
    pub by: By,
    /// For how many seconds; a host that starts again takes as long as it takes.
    pub seconds: u32,
}

impl Drill {
    /// What is done, in one line.
    pub fn title(&self) -> String {
        let Self { host, seconds, .. } = self;
        match (self.by, &self.from) {
            (_, Some(from)) => format!("{host} gets no packets from {from} for {seconds} s"),
            (By::Stop, None) => format!("{} of {host} is stopped for {seconds} s", self.what()),
            (By::Cut, None) => format!("{host} is cut off for {seconds} s ({})", self.what()),
            (By::Reboot, None) => format!("{host} starts again ({})", self.what()),
        }
    }

    fn what(&self) -> &'static str {
        match self.kind {
            Kind::Holder => "holder of the virtual IP",
            Kind::LoadBalancer => "the load balancer",
            Kind::ApiServer => "the API server",
            Kind::Member | Kind::Link => "the etcd member",
            Kind::Leader => "the leading etcd member",
            Kind::ControlPlane => "control plane",
            Kind::Worker => match self.by {
                By::Stop => "the kubelet",
                By::Cut | By::Reboot => "worker",
            },
        }
    }

    /// What it is kept under: a loss, its place and its way.
    pub fn key(&self) -> String {
        let from = self.from.as_ref().map_or(String::new(), |from| format!("-{from}"));
        format!("{}-{}{from}-{}", self.kind.word(), self.host, self.by.word())
    }

    /// The unit that is stopped, if one is.
    pub fn unit(&self) -> Option<&'static str> {
        self.kind.unit().filter(|_| self.by == By::Stop).map(|(unit, _)| unit)
    }

    /// Whether this role of a host is lost with it.
    pub fn takes(&self, cluster: &Cluster, role: Role, host: &HostName) -> bool {
        if *host != self.host || !cluster.holds(host, role) {
            return false;
        }
        match (&self.from, self.by) {
            // Two members that do not hear one another cost one of them at most.
            (Some(from), _) => role == Role::EtcdMember && cluster.holds(from, role),
            (None, By::Stop) => self.kind.unit().is_some_and(|(_, own)| own == role),
            (None, By::Cut | By::Reboot) => true,
        }
    }

    /// Whether its host is out of reach of the others while it lasts.
    pub fn isolates(&self, host: &HostName) -> bool {
        *host == self.host && self.by != By::Stop && self.from.is_none()
    }
}

/// Why there is no drill.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoDrill {
    /// What was asked for makes no sense here: what is wrong, and what would.
    Wrong(String, String),
    /// A safety rule forbids it.
    Refused(Vec<Refusal>),
}

/// Settles what is lost.
///
/// # Errors
/// What was asked for makes no sense, or rules forbid it: all of them.
pub fn choose(cluster: &Cluster, stands: &Stands, wanted: &Wanted) -> Result<Drill, NoDrill> {
    let kind = wanted.kind;
    let by = wanted.by.unwrap_or(kind.ways()[0]);
    if !kind.ways().contains(&by) {
        let ways: Vec<&str> = kind.ways().iter().map(|by| by.word()).collect();
        return Err(wrong(
            format!("{} cannot be lost by {}", kind.title(), by.word()),
            format!("ways to lose it: {}", ways.join(", ")),
        ));
    }
    let host = place(cluster, stands, wanted)?;
    let from = match (kind, &wanted.from) {
        (Kind::Link, None) => {
            return Err(wrong(
                "a link has two ends",
                "zoisite drill link egret heron: egret gets no packets from heron",
            ));
        }
        (Kind::Link, Some(from)) if *from == host => {
            return Err(wrong(format!("a host and itself have no link: {host}"), "name two hosts"));
        }
        (Kind::Link, Some(from)) => Some(from.clone()),
        (_, Some(from)) => {
            return Err(wrong(
                format!("one host is lost, not {host} and {from}"),
                "two hosts are named for a link alone",
            ));
        }
        (_, None) => None,
    };
    let seconds = wanted.seconds.unwrap_or(kind.seconds());
    let drill = Drill { kind, host, from, by, seconds };
    let refused = refusals(cluster, stands, &drill);
    if refused.is_empty() { Ok(drill) } else { Err(NoDrill::Refused(refused)) }
}

fn wrong(what: impl Into<String>, fix: impl Into<String>) -> NoDrill {
    NoDrill::Wrong(what.into(), fix.into())
}

/// The host, as it was named or as things stand.
fn place(cluster: &Cluster, stands: &Stands, wanted: &Wanted) -> Result<HostName, NoDrill> {
    let kind = wanted.kind;
    let all = kind.places(cluster);
    let one_of = |all: &[HostName], what: &str| match &wanted.host {
        Some(host) if all.contains(host) => Ok(host.clone()),
        Some(host) => Err(wrong(format!("{host} is not {what}"), format!("one of {}", list(all)))),
        None => all.first().cloned().ok_or_else(|| {
            wrong(
                format!("the cluster file names no host that is {what}"),
                "zoisite drill lists what can be lost here",
            )
        }),
    };
    // Whom it is about says how things stand now.
    let the_one = |now: &Option<HostName>, what: &str| match (now, &wanted.host) {
        // Whoever it was is lost already.
        (None, _) => {
            let mut ailing = stands.ailing.clone();
            let nobody = format!("no host {what}");
            if !ailing.iter().any(|told| told.starts_with(&nobody)) {
                ailing.push(format!("{nobody} now"));
            }
            Err(NoDrill::Refused(vec![lost_already(&ailing)]))
        }
        (Some(now), Some(host)) if host != now => {
            Err(wrong(format!("it is {now} that {what} now, not {host}"), "leave the host out"))
        }
        (Some(now), _) => Ok(now.clone()),
    };
    match kind {
        Kind::Holder if cluster.load_balancers.virtual_ip.is_none() => Err(wrong(
            "the cluster file names no virtual IP",
            "zoisite drill lists what can be lost here",
        )),
        Kind::Holder if all.is_empty() => Err(wrong(
            "in a mesh every host has the API endpoint itself: no host holds it for others",
            "zoisite drill load-balancer HOST stops what forwards it there, and asks from there",
        )),
        Kind::Holder => the_one(&stands.holder, "holds the virtual IP"),
        Kind::Leader => the_one(&stands.leader, "leads the etcd members"),
        Kind::LoadBalancer => one_of(&all, "a load balancer"),
        Kind::ApiServer | Kind::ControlPlane => one_of(&all, "a control-plane host"),
        Kind::Member => {
            let mut followers = all;
            followers.retain(|host| stands.leader.as_ref() != Some(host));
            one_of(&followers, "an etcd member that follows")
        }
        Kind::Worker => one_of(&all, "a worker"),
        Kind::Link => one_of(&all, "a host"),
    }
}

fn list(all: &[HostName]) -> String {
    all.iter().map(HostName::as_str).collect::<Vec<_>>().join(", ")
}

fn refusal(rule: Rule, found: String, fix: &str) -> Refusal {
    Refusal { rule, host: None, found, fix: fix.to_owned() }
}

/// Rule S2: what is lost already, all of it.
fn lost_already(ailing: &[String]) -> Refusal {
    refusal(
        Rule::OneAtATime,
        format!("something is lost already: {}", ailing.join("; ")),
        "zoisite status shows all of it, zoisite raise fixes it; a drill begins where all is well",
    )
}

/// Rules S1 and S2: nothing is lost on purpose while something is lost already, and never the last of its kind.
fn refusals(cluster: &Cluster, stands: &Stands, drill: &Drill) -> Vec<Refusal> {
    let mut out = Vec::new();
    if !stands.ailing.is_empty() {
        out.push(lost_already(&stands.ailing));
    }
    let mut refuse = |rule: Rule, found: String, fix: &str| {
        out.push(refusal(rule, found, fix));
    };
    let host = &drill.host;
    let members = cluster.etcd.members.len();
    if drill.takes(cluster, Role::EtcdMember, host) && members - 1 < members / 2 + 1 {
        refuse(
            Rule::QuorumFirst,
            format!(
                "without {host} {} of {members} etcd members would be left, and {} must be",
                members - 1,
                members / 2 + 1
            ),
            "three members survive the loss of one: zoisite design losses",
        );
    }
    let alone = [(Role::ControlPlane, "API server"), (Role::LoadBalancer, "load balancer")];
    for (role, what) in alone {
        if drill.takes(cluster, role, host) && cluster.holders(role).len() == 1 {
            refuse(
                Rule::OneAtATime,
                format!("{host} is the only {what}: nothing would answer until it is back"),
                "zoisite design losses shows what a second one takes",
            );
        }
    }
    out
}
