//! Clusters that scenes share.

use super::lab::{Lab, Standing};
use super::waits::patience;

/// One host that does everything.
pub static ONE: Standing =
    Standing { cluster: "single", hosts: 1, kept: true, raise: from_nothing };

/// Three hosts that do everything, and hold the API endpoint among themselves. The runs that raise it are killed.
pub static THREE: Standing =
    Standing { cluster: "virtual-ip", hosts: 3, kept: true, raise: through_kills };

/// Eleven hosts, each kind of them by itself.
pub static ELEVEN: Standing =
    Standing { cluster: "saltmarsh", hosts: 11, kept: false, raise: all_kinds };

/// What was issued is a month old: a year's certificates may end before now, and their authorities still hold.
fn issued_a_month_ago(lab: &Lab) {
    let _ = lab.faked("-30d", &["pki", "issue"]).ended(0);
}

fn from_nothing(lab: &Lab) {
    issued_a_month_ago(lab);
    lab.must_converge();
}

/// Where a run is killed, one after another: each is begun and not done.
const ON_THE_WAY: [&str; 7] = [
    "\"step\":\"ibis/etcd-configure\"",
    "\"step\":\"egret/etcd-start\"",
    "\"step\":\"heron/etcd-note\"",
    "\"step\":\"heron/control-plane-start\"",
    "\"step\":\"egret/address-start\"",
    "\"step\":\"ibis/admit\"",
    "\"step\":\"dns\"",
];

fn through_kills(lab: &Lab) {
    issued_a_month_ago(lab);
    lab.killed_at(&["raise"], &ON_THE_WAY);
    let _ = lab.zoisite(&["raise", "--timeout", &patience(300)]).ended(0);
    lab.must_converge();
    let _ = lab.zoisite(&["status"]).ended(0).says("virtual IP 10.77.0.5: held by");
    let _ = lab.zoisite(&["history"]).ended(0).says("was cut off");
}

fn all_kinds(lab: &Lab) {
    let before = lab.zoisite(&["sequence", "--json"]).ended(0).json();
    let steps = before["steps"].as_array().unwrap().len();
    assert!(steps > 70, "{steps} steps");
    lab.must_converge();
}
