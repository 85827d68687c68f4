//! What a drill does on a host: it really runs here, in a scratch folder under two shells.

use zoisite_core::drill::{By, Drill, Kind, fix_script, lose_script};

use crate::scratch::{Host, SHELLS};
use crate::simulated::{host, saltmarsh};

const UNIT: &str = "zoisite-etcd.service";

fn script() -> String {
    let drill =
        Drill { kind: Kind::Leader, host: host("heron"), from: None, by: By::Stop, seconds: 20 };
    lose_script(&saltmarsh(), &drill, 7)
}

/// Where a line stands among what was asked of the machine.
fn asked(on: &Host, what: &str) -> Option<usize> {
    on.read("asked").lines().position(|line| line.contains(what))
}

#[test]
fn the_fix_is_sure_before_anything_is_lost_and_gives_it_back() {
    for shell in SHELLS {
        let on = Host::new(shell);
        on.write("systemd/zoisite-etcd.service.state", "active");
        let (said, over) = on.run(&script(), b"", "");
        assert!(over && said.contains("lost"), "{shell}: {said}");
        let (timer, stop) = (asked(&on, "--on-active=20"), asked(&on, &format!("stop {UNIT}")));
        assert!(timer.is_some() && timer < stop, "{shell}: {}", on.read("asked"));
        // What the timer runs.
        let fix = on.read("run/zoisite-drill/fix");
        assert!(fix.contains(&format!("systemctl start --no-block {UNIT}")), "{shell}: {fix}");
        // Asked to, it gives back at once, and nothing of it stays.
        let (said, over) = on.run(&fix_script(&host("heron"), 7), b"", "");
        assert!(over, "{shell}: {said}");
        assert!(asked(&on, &format!("start --no-block {UNIT}")).is_some(), "{shell}");
        assert!(!on.path("run/zoisite-drill").exists(), "{shell}");
    }
}

#[test]
fn where_no_timer_can_be_set_nothing_is_lost() {
    for shell in SHELLS {
        let on = Host::new(shell);
        on.write("systemd/zoisite-etcd.service.state", "active");
        on.program("systemd-run", "echo 'Failed to connect to bus'; exit 1");
        let (said, over) = on.run(&script(), b"", "");
        assert!(!over && said.contains("Failed to connect to bus"), "{shell}: {said}");
        assert_eq!(asked(&on, &format!("stop {UNIT}")), None, "{shell}: {}", on.read("asked"));
    }
}
