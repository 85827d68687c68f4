//! The scripts that put items on hosts, look at them and take them back: they really run here, under dash and
//! under busybox with its own tools, in a scratch folder, as whoever runs the tests. What belongs to the whole
//! machine (users, units, the container runtime) has a small stand-in each.

use std::os::unix::fs::{MetadataExt as _, symlink};

use crate::scratch::{Host, SHELLS, UNIT};
use crate::simulated::turn;
use zoisite_core::cluster::{HostName, read};
use zoisite_core::item::{
    Differs, File, Item, KeyText, NoSwap, Package, Pair, ReadBy, Routes, Rules, Unit,
};
use zoisite_core::paths::Firewall;
use zoisite_core::pki::{KeyKind, Profile, Wanted, check_key_request, wanted};
use zoisite_core::script::{Operation, Stretch, keep_rules_script, uninstall_script};

#[test]
fn every_kind_is_put_drifts_is_put_again_and_taken_back() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let items = host.items();
        let kinds: std::collections::BTreeSet<_> =
            items.iter().map(|item| format!("{:?}", std::mem::discriminant(item))).collect();
        assert_eq!(kinds.len(), Item::KINDS.len(), "one of every kind: {:?}", Item::KINDS);
        let before = host.tree();
        // The unit differs in two ways; the runtime does not, nor routes of a file that is not there.
        assert_eq!(host.differs(&items).len(), items.len() - 1);
        assert_eq!(host.put(&items), items.len());
        assert_eq!(host.differs(&items), [], "{shell}");
        // (A component is brought only where it differs.)
        let again: Vec<Item> =
            items.iter().filter(|item| !matches!(item, Item::Component(_))).cloned().collect();
        assert_eq!(host.put(&again), 0, "{shell}: put again, nothing changes");
        for item in &items[..items.len() - 1] {
            host.drift(item);
            let differs = host.differs(&items);
            assert_eq!(differs.len(), 1, "{shell}: {}: {differs:?}", item.title());
            assert_eq!(differs[0].0, item.title());
            assert_eq!(host.put(std::slice::from_ref(item)), 1, "{shell}: {}", item.title());
            if host.pending() {
                assert_eq!(item.restarts(), Some(UNIT), "{shell}");
                host.act(vec![Operation::Restart(UNIT)]);
            }
            assert_eq!(host.differs(&items), [], "{shell}: {}", item.title());
        }
        assert_ne!(host.tree(), before);
        let said = host.uninstall();
        host.is_as(&before, &said);
        assert!(!host.uninstall().contains("changed"), "{shell}: nothing is left to take back");
        host.is_as(&before, "once more");
    }
}

#[test]
fn what_is_put_is_labelled_where_selinux_is_there_and_nowhere_else() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let items = host.items();
        host.put(&items);
        assert!(!host.read("asked").contains("restorecon"), "{shell}: {}", host.read("asked"));
        let host = Host::new(shell);
        std::fs::create_dir_all(host.path("sys/fs/selinux")).unwrap();
        host.write("sys/fs/selinux/enforce", "1");
        let items = host.items();
        host.put(&items);
        assert_eq!(host.differs(&items), [], "{shell}");
        let asked = host.read("asked");
        for path in ["etc/site.conf", "etc/new/deep/folder", "etc/peer-a1"] {
            let labelled = format!("restorecon -RF {}\n", host.at(path));
            assert!(asked.contains(&labelled), "{shell}: {labelled}{asked}");
        }
        assert!(asked.contains(&format!("chcon -t bin_t {}\n", host.at("usr/lib/probe.tar"))));
        // A label that cannot be given is reported.
        host.program("restorecon", "echo 'unknown type gull_t' >&2; exit 1");
        let file = Item::from(host.file("etc/other.conf", "of ours\n"));
        let said = host.try_to_put(&[file], "").unwrap_err();
        assert!(said.contains("labelling") && said.contains("gull_t"), "{shell}: {said}");
    }
}

#[test]
fn swap_that_comes_back_at_once_is_told() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.write("proc/swaps", "Filename Type Size Used Priority\n/dev/zram0 file 8 0 100\n");
        // A unit or a generator of the site's puts it back while one looks away.
        host.program("swapoff", ":");
        let said = host.try_to_put(&[Item::NoSwap(NoSwap)], "").unwrap_err();
        assert!(said.contains("it comes back at once: /dev/zram0"), "{shell}: {said}");
        host.uninstall();
    }
}

#[test]
fn a_resolver_file_that_is_a_link_to_a_stub_is_seen_through() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let stub = |host: &Host| host.look(&[]).facts.unwrap().stub_resolver;
        std::fs::create_dir_all(host.path("run/systemd/resolve")).unwrap();
        host.write("run/systemd/resolve/stub-resolv.conf", "nameserver 127.0.0.53\n");
        symlink(host.path("run/systemd/resolve/stub-resolv.conf"), host.path("etc/resolv.conf"))
            .unwrap();
        assert!(!stub(&host), "{shell}: where it asks is written nowhere");
        host.write("run/systemd/resolve/resolv.conf", "nameserver 10.77.0.2\n");
        assert!(stub(&host), "{shell}");
        std::fs::remove_file(host.path("etc/resolv.conf")).unwrap();
        host.write("etc/resolv.conf", "nameserver 10.77.0.2\n");
        assert!(!stub(&host), "{shell}");
        // One that leads nowhere is none.
        std::fs::remove_file(host.path("etc/resolv.conf")).unwrap();
        symlink("/nowhere/at/all", host.path("etc/resolv.conf")).unwrap();
        assert!(!stub(&host), "{shell}");
    }
}

/// A look says that somebody acts there, as long as it does: rule S11.
#[test]
fn s11_a_look_says_whether_a_script_is_at_work() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.program("flock", "exec /usr/bin/flock \"$@\"");
        assert!(!host.look(&[]).acting, "{shell}: nobody ever acted there");
        host.put(&[Item::from(host.file("etc/site.conf", "of ours\n"))]);
        assert!(!host.look(&[]).acting, "{shell}");
        let lock = host.path("var/lib/zoisite/lock");
        let mut script = std::process::Command::new("flock")
            .arg(&lock)
            .args(["sh", "-c", "echo at work; read -r _"])
            .stdin(std::process::Stdio::piped())
            .stdout(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        let mut said = [0; 7];
        std::io::Read::read_exact(script.stdout.as_mut().unwrap(), &mut said).unwrap();
        assert!(host.look(&[]).acting, "{shell}");
        drop(script.stdin.take());
        script.wait().unwrap();
        assert!(!host.look(&[]).acting, "{shell}: it has ended");
    }
}

/// A host whose new rules nobody came in through is told nothing any more: it acts by itself.
#[test]
fn rules_of_a_firewall_that_nobody_keeps_are_those_of_before_again() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let _ = host.items();
        let rules = |port: u16| {
            let text = format!("table inet gulls_hosts {{\n# {port}\n}}\n");
            let (words, table) = (Firewall::Nftables, "gulls_hosts".into());
            Item::Rules(Rules { words, table, text })
        };
        host.put(&[rules(22)]);
        // The same again, and another run's: put, and cut off before anybody came.
        assert_eq!(host.put(&[rules(22)]), 0, "{shell}");
        let text = host.script(vec![Operation::Put(rules(2222))]);
        assert!(host.run(&text, b"", "").1);
        assert!(host.read("table").contains("2222"), "{shell}");
        assert!(host.read("asked").contains("--on-active=60"), "{shell}");
        let undo = host.read("var/lib/zoisite/firewall/undo");
        let (said, _) = host.run(&format!("\nroot=\n{undo}"), b"", "");
        assert!(host.read("table").contains("# 22\n"), "{shell}: {said}");
        assert_eq!(host.differs(&[rules(22)]), [], "{shell}");
        assert_eq!(host.differs(&[rules(2222)])[0].1, Differs::Content, "{shell}");
        // Whoever comes too late hears it; what was kept before stands.
        let late = keep_rules_script(&HostName::new("heron").unwrap(), 7);
        let (said, over) = host.run(&late, b"", "");
        assert!(!over && said.contains("undone them by itself"), "{shell}: {said}");
        assert_eq!(host.differs(&[rules(22)]), [], "{shell}");
        // A trial that a killed run left is ended by the next one.
        assert!(host.run(&text, b"", "").1);
        host.put(&[rules(3333)]);
        assert!(host.read("var/lib/zoisite/firewall/kept").contains("3333"), "{shell}");
        // Rules that do not read are none, and change nothing.
        let bad = Item::Rules(Rules {
            words: Firewall::Nftables,
            table: "gulls_hosts".into(),
            text: "nonsense\n".into(),
        });
        let said = host.try_to_put(&[bad], "").unwrap_err();
        assert!(said.contains("checking the rules"), "{shell}: {said}");
        assert_eq!(host.differs(&[rules(3333)]), [], "{shell}");
    }
}

#[test]
fn killed_at_any_write_it_goes_on_and_is_taken_back_whole() {
    for shell in SHELLS {
        // Every step ends with a sync: the shell is killed at one of them, an earlier one each time.
        for at in [23, 17, 13, 10, 8, 7, 6, 5, 4, 3, 2, 1].into_iter().skip(turn(2)).step_by(2) {
            let host = Host::new(shell);
            let items = host.items();
            let before = host.tree();
            host.program(
                "sync",
                &format!("echo >>$H/syncs; [ $(wc -l <$H/syncs) -ne {at} ] || kill -9 $PPID"),
            );
            let killed = host.try_to_put(&items, "");
            assert!(killed.is_err() || at > 20, "{shell}: it was killed at {at}");
            std::fs::remove_file(host.path("bin/sync")).unwrap();
            host.put(&items);
            assert_eq!(host.differs(&items), [], "{shell}, killed at {at}");
            // And in the midst of taking back.
            host.program(
                "sync",
                &format!("echo >>$H/syncs; [ $(wc -l <$H/syncs) -ne {} ] || kill -9 $PPID", at + 3),
            );
            host.write("syncs", "");
            let name = HostName::new("heron").unwrap();
            let _ = host.run(&uninstall_script(&name, 7), b"", "");
            std::fs::remove_file(host.path("bin/sync")).unwrap();
            host.uninstall();
            std::fs::remove_file(host.path("syncs")).unwrap();
            host.is_as(&before, &format!("killed at {at}"));
        }
    }
}

#[test]
fn a_full_disk_changes_nothing_and_is_told() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.write("etc/site.conf", "the site's own\n");
        let text = "a long line of text\n".repeat(500);
        let before = host.tree();
        let item = Item::from(host.file("etc/site.conf", &text));
        let said = host.try_to_put(std::slice::from_ref(&item), "ulimit -f 2").unwrap_err();
        assert!(said.contains("@\tfailed\t1\twriting"), "{shell}: {said}");
        host.is_as(&before, &said);
        host.put(&[item]);
        assert_eq!(host.read("etc/site.conf"), text);
    }
}

#[test]
fn a_file_that_may_not_be_replaced_is_told_and_nothing_stands_beside_it() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.write("etc/site.conf", "the site's own\n");
        let before = host.tree();
        let tool = if shell == "busybox" { "/bin/busybox mv" } else { "/bin/mv" };
        let body = format!(
            "for to; do :; done; case $to in */site.conf) echo \"$to: Operation not permitted\" >&2; exit 1 ;; esac; exec {tool} \"$@\""
        );
        host.program("mv", &body);
        let item = Item::from(host.file("etc/site.conf", "of ours\n"));
        let said = host.try_to_put(std::slice::from_ref(&item), "").unwrap_err();
        assert!(said.contains("@\tfailed\t1\treplacing"), "{shell}: {said}");
        assert!(said.contains("Operation not permitted"), "{shell}: {said}");
        host.is_as(&before, &said);
        std::fs::remove_file(host.path("bin/mv")).unwrap();
        host.put(std::slice::from_ref(&item));
        assert_eq!(host.differs(&[item]), [], "{shell}");
    }
}

#[test]
fn a_planted_link_is_not_followed_and_a_folder_is_not_filled() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.write("victim", "of somebody\n");
        symlink(host.path("victim"), host.path("etc/site.conf.zoisite-new")).unwrap();
        std::fs::create_dir(host.path("folder")).unwrap();
        symlink(host.path("folder"), host.path("etc/led.conf")).unwrap();
        host.put(&[
            host.file("etc/site.conf", "of ours\n").into(),
            host.file("etc/led.conf", "of ours\n").into(),
        ]);
        assert_eq!(host.read("victim"), "of somebody\n", "{shell}");
        assert!(host.path("folder").read_dir().unwrap().next().is_none(), "{shell}");
        assert_eq!(host.read("etc/led.conf"), "of ours\n", "{shell}");
        let said = host.try_to_put(&[host.file("folder", "of ours\n").into()], "").unwrap_err();
        assert!(said.contains("a directory stands there"), "{shell}: {said}");
    }
}

#[test]
fn owner_and_mode_alone_leave_no_mark_and_content_leaves_one() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let file = host.file("etc/site.conf", "of ours\n");
        host.put(&[file.clone().into()]);
        assert!(host.pending(), "{shell}");
        std::fs::remove_file(host.path(&format!("var/lib/zoisite/pending/{UNIT}"))).unwrap();
        host.mode("etc/site.conf", 0o600);
        assert_eq!(host.put(&[file.clone().into()]), 1, "{shell}");
        assert_eq!(host.path("etc/site.conf").metadata().unwrap().mode() & 0o777, 0o640);
        assert!(!host.pending(), "{shell}: nothing has to restart for it");
    }
}

#[test]
fn a_mark_outlives_every_start_that_does_not_bring_the_new_files_in() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let start = || host.act(vec![Operation::Start(UNIT)]);
        // It runs by now, with older files: only a restart, when its turn comes, brings them in.
        host.systemd("state", "active");
        host.put(&[host.file("etc/site.conf", "of ours\n").into()]);
        let _ = start();
        assert!(host.pending(), "{shell}");
        // systemd starts it over and over, and calls it active each time for a moment.
        host.systemd("type", "simple");
        host.systemd("restarts", "4");
        let _ = start();
        assert!(!host.pending(), "{shell}");
        host.systemd("type", "notify");
        host.put(&[host.file("etc/site.conf", "of ours again\n").into()]);
        let _ = start();
        assert!(host.pending(), "{shell}: this one is ready when it is called so");
        // It is on its way with older files: nobody depends on it yet.
        host.systemd("state", "activating");
        let _ = start();
        assert!(host.read("asked").contains("restart zoisite-heron.service"), "{shell}");
        assert!(!host.pending(), "{shell}");
    }
}

#[test]
fn what_fails_at_once_is_not_started_over_and_over() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.systemd("fails", "");
        let wait = vec![Operation::Settle { unit: UNIT, port: None, seconds: 60 }];
        let (said, over) = host.run(&host.script(wait), b"", "");
        assert!(!over && said.contains("it failed 3 times"), "{shell}: {said}");
        assert!(said.contains("no such bird"), "{shell}: its log is evidence: {said}");
        assert_eq!(host.started(), 3, "{shell}");
    }
}

#[test]
fn links_set_group_id_and_units_without_a_say_converge() {
    for shell in SHELLS {
        let host = Host::new(shell);
        // A site keeps its data elsewhere: root's own link, below a folder that hands its group on.
        std::fs::create_dir_all(host.path("disk/kubelet")).unwrap();
        symlink(host.path("disk/kubelet"), host.path("var/lib/kubelet")).unwrap();
        std::fs::create_dir(host.path("etc/handed")).unwrap();
        host.mode("etc/handed", 0o2755);
        host.program(
            "stat",
            "case $1$2 in -c%U) echo root ;; *) PATH=${PATH#*:} exec stat \"$@\" ;; esac",
        );
        host.systemd("boot", "static");
        let items = [
            host.directory("var/lib/kubelet"),
            host.directory("etc/handed/on"),
            Item::Unit(Unit { name: UNIT, port: None }),
        ];
        host.put(&items);
        assert_eq!(host.differs(&items), [], "{shell}");
        assert_eq!(host.put(&items), 0, "{shell}");
        assert!(host.path("var/lib/kubelet").is_symlink(), "{shell}");
        assert!(!host.read("asked").contains("\nenable"), "{shell}: it has no say in it");
    }
}

#[test]
fn the_list_of_earlier_versions_is_read() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let (site, own) = (host.at("etc/site.conf"), host.at("etc/own.conf"));
        host.write("etc/site.conf", "of ours\n");
        host.write("etc/own.conf", "of ours\n");
        let state = "var/lib/zoisite";
        std::fs::create_dir_all(host.path(&format!("{state}/replaced"))).unwrap();
        host.write(&format!("{state}/replaced/{}", site.replace('/', "_")), "the site's own\n");
        host.write(&format!("{state}/manifest"), format!("file {site}\nfile {own}\n"));
        host.act(Vec::new());
        assert!(!host.path(&format!("{state}/manifest")).exists(), "{shell}");
        host.uninstall();
        assert_eq!(host.read("etc/site.conf"), "the site's own\n", "{shell}");
        assert!(!host.path("etc/own.conf").exists(), "{shell}");
    }
}

#[test]
fn a_unit_that_systemd_calls_active_at_once_is_waited_for_at_its_port() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.systemd("state", "active");
        std::fs::create_dir_all(host.path("proc/net")).unwrap();
        let listed = |state: &str| format!("  0: 00000000:2811 00000000:0000 {state} 0\n");
        let wait = |seconds| {
            let settle = Operation::Settle { unit: UNIT, port: Some(0x2811), seconds };
            host.run(&host.script(vec![settle]), b"", "")
        };
        // Nothing listens; another's connection from that port is no listener.
        host.write("proc/net/tcp", listed("01"));
        let (said, over) = wait(1);
        assert!(!over && said.contains("not ready after 1 seconds"), "{shell}: {said}");
        host.write("proc/net/tcp6", listed("0A"));
        let (said, over) = wait(60);
        assert!(over, "{shell}: {said}");
    }
}

#[test]
fn a_pair_goes_in_as_one_and_halves_that_do_not_match_are_a_difference() {
    for shell in SHELLS {
        let host = Host::new(shell);
        // Carried there by hand: a folder, of which nobody wrote down who put it.
        std::fs::create_dir(host.path("etc/peer")).unwrap();
        host.write("etc/peer/tls.crt", "certificate a0\n");
        host.write("etc/peer/tls.key", "key of a0\n");
        let (old, new) = (Item::from(host.pair("a1")), Item::from(host.pair("a2")));
        host.put(std::slice::from_ref(&old));
        assert_eq!(host.differs(std::slice::from_ref(&old)), [], "{shell}");
        // Whoever reads while it is replaced reads two halves of one pair.
        host.program(
            "mv",
            "PATH=${PATH#*:} mv \"$@\"; cat $H/etc/peer/tls.crt $H/etc/peer/tls.key >>$H/read 2>/dev/null || :",
        );
        host.put(std::slice::from_ref(&new));
        let read = host.read("read");
        let lines: Vec<&str> = read.lines().collect();
        assert!(lines.len() >= 4, "{shell}: {read}");
        for halves in lines.chunks(2) {
            let serial = halves[0].strip_prefix("certificate ").unwrap();
            assert_eq!(halves[1], format!("key of {serial}"), "{shell}: {read}");
        }
        assert_eq!(host.differs(std::slice::from_ref(&new)), [], "{shell}");
        assert!(!host.path("etc/peer-a1").exists(), "{shell}: no old key is left");
        std::fs::copy(host.path("etc/peer/tls.crt"), host.path("etc/peer/tls.key")).unwrap();
        let differs = host.differs(std::slice::from_ref(&new));
        assert_eq!(differs, [(new.title(), Differs::Content)], "{shell}");
        assert_eq!(host.put(std::slice::from_ref(&new)), 1);
        assert_eq!(host.differs(&[new]), [], "{shell}");
    }
}

#[test]
fn who_reads_a_pair_when_it_starts_must_have_read_another_one() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let read = |serial: &str, reloads| {
            Item::from(Pair { read_by: Some(ReadBy { unit: UNIT, reloads }), ..host.pair(serial) })
        };
        host.put(&[read("a1", true)]);
        assert_eq!(host.read(&format!("var/lib/zoisite/pending/{UNIT}")), "reload\n", "{shell}");
        host.act(vec![Operation::Restart(UNIT)]);
        assert!(!host.pending(), "{shell}");
        assert_eq!(host.put(&[read("a1", true)]), 0, "{shell}");
        // Only its mode is another: whoever has read it goes on.
        host.mode("etc/peer/tls.key", 0o640);
        assert_eq!(host.put(&[read("a1", true)]), 1, "{shell}");
        assert!(!host.pending(), "{shell}");
        host.put(&[read("a2", false)]);
        assert_eq!(host.read(&format!("var/lib/zoisite/pending/{UNIT}")), "restart\n", "{shell}");
    }
}

#[test]
fn a_key_is_made_where_it_is_used_and_only_what_asks_for_a_certificate_leaves_it() {
    for (shell, kind) in SHELLS.iter().flat_map(|shell| {
        [KeyKind::EcdsaP256, KeyKind::EcdsaP384, KeyKind::Rsa3072].map(|kind| (*shell, kind))
    }) {
        let host = Host::new(shell);
        let pair = host.own_pair(kind);
        let cluster =
            read(include_str!("../../../../demo/saltmarsh/zoisite.toml")).cluster.unwrap();
        let node = HostName::new("tern-1").unwrap();
        let is = |one: &Wanted| {
            one.profile == Profile::KubeletServing && one.host.as_ref() == Some(&node)
        };
        let for_node = wanted(&cluster).into_iter().find(is).unwrap();
        let for_node = Wanted { key: kind, ..for_node };
        let ask = || host.asks(&pair);
        let (first, again) = (ask(), ask());
        let checked = check_key_request(&first[0], &for_node);
        assert!(checked.is_ok(), "{shell}, {kind}: {checked:?}");
        assert_eq!(first[0].key_sha256, again[0].key_sha256, "{shell}: one key, asked for twice");
        let kept = host.path(&format!("var/lib/zoisite/keys/{}.{kind}", dotted(&pair.path)));
        assert_eq!(mode(&kept), 0o700, "{shell}");
        assert_eq!(mode(&kept.join("tls.key")), 0o600, "{shell}");

        // What is signed for it goes in beside it, and nothing is left elsewhere.
        let signed = |serial: &str, key_sha256: &str| Pair {
            serial: serial.into(),
            certificate: format!("certificate {serial}\n").into(),
            key_sha256: key_sha256.into(),
            ..pair.clone()
        };
        let unsigned =
            Stretch { host: node.clone(), operations: vec![Operation::Put(pair.clone().into())] };
        assert!(unsigned.script(7, KeyText::Opened(&|_| None)).is_err(), "none is signed");
        let one = signed("a1", &first[0].key_sha256);
        assert_eq!(host.put(&[one.clone().into()]), 1, "{shell}");
        assert_eq!(host.differs(&[one.clone().into()]), [], "{shell}");
        assert_eq!(host.asks(&one), [], "{shell}: it has that key");
        assert!(!kept.exists(), "{shell}");
        assert_eq!(host.put(&[one.clone().into()]), 0, "{shell}");

        // Another key, while the first serves on; a run that is cut in between goes on with the same.
        let second = ask();
        assert_ne!(second[0].key_sha256, first[0].key_sha256, "{shell}");
        assert_eq!(host.differs(&[one.into()]), [], "{shell}: the first serves on");
        let two = signed("a2", &second[0].key_sha256);
        assert_eq!(host.asks(&two), [], "{shell}");
        assert_eq!(host.put(&[two.clone().into()]), 1, "{shell}");
        assert!(!host.path("etc/peer-a1").exists(), "{shell}: no old key is left");

        // A key that is gone is asked for again; what it was certified for is of no use.
        std::fs::remove_file(host.path("etc/peer/tls.key")).unwrap();
        assert!(!host.differs(&[two.clone().into()]).is_empty(), "{shell}");
        let said = host.try_to_put(&[two.clone().into()], "").unwrap_err();
        assert!(said.contains("not on this host any more"), "{shell}: {said}");
        let third = signed("a3", &host.asks(&two)[0].key_sha256);
        assert_eq!(host.put(&[third.into()]), 1, "{shell}");
        host.uninstall();
        assert!(!host.path("etc/peer").exists(), "{shell}");
        assert!(!host.path("var/lib/zoisite/keys").exists(), "{shell}");
    }
}

fn mode(path: &std::path::Path) -> u32 {
    use std::os::unix::fs::PermissionsExt as _;
    std::fs::metadata(path).unwrap().permissions().mode() & 0o777
}

fn dotted(path: &str) -> String {
    path.trim_start_matches('/').replace('/', ".")
}

#[test]
fn a_node_offline_takes_no_route_to_another_away() {
    for shell in SHELLS {
        let host = Host::new(shell);
        let lines = "route replace 10.90.7.0/24 via 192.0.2.7 proto 90\nroute replace 10.90.8.0/24 via 10.77.0.108 proto 90\n";
        let (file, routes) =
            (host.file("etc/routes", lines).into(), Routes { path: host.at("etc/routes") }.into());
        host.put(&[file]);
        let said = host.try_to_put(std::slice::from_ref(&routes), "").unwrap_err();
        assert!(said.contains("Nexthop has invalid gateway"), "{shell}: {said}");
        assert!(host.read("routed").contains("10.90.8.0/24"), "{shell}: the other one is set");
        let lacks = Differs::NotSet("10.90.7.0/24 via 192.0.2.7".into());
        assert_eq!(host.differs(std::slice::from_ref(&routes)), [(routes.title(), lacks)]);
    }
}

#[test]
fn each_file_that_is_kept_has_a_number_of_its_own() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.write("etc/one.conf", "the first\n");
        host.write("etc/two.conf", "the second\n");
        let items = ["etc/one.conf", "etc/two.conf"].map(|name| host.file(name, "ours\n").into());
        host.put(&items);
        host.uninstall();
        assert_eq!(host.read("etc/one.conf"), "the first\n", "{shell}");
        assert_eq!(host.read("etc/two.conf"), "the second\n", "{shell}");
    }
}

#[test]
fn packages_are_brought_only_where_nothing_else_changes() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.write("lists", "");
        let gulls = [Item::Package(Package { name: "gulls" })];
        let before = host.tree();
        // It would upgrade, or remove, what is there.
        for (plan, says) in [
            ("Inst gulls (1.0)\nInst herons [1.0] (2.0)\n", "it would also upgrade herons"),
            ("Remv egrets [1.0]\nInst gulls (1.0)\n", "it would also remove egrets"),
        ] {
            host.write("planned", plan);
            let said = host.try_to_put(&gulls, "").unwrap_err();
            assert!(said.contains(says), "{shell}: {said}");
            std::fs::remove_file(host.path("planned")).unwrap();
            host.is_as(&before, &said);
        }
        // What somebody else left half done is theirs to end.
        host.write("packages", "cron install half-configured\n");
        let said = host.try_to_put(&gulls, "").unwrap_err();
        assert!(said.contains("dpkg was interrupted earlier: ") && said.contains("cron"), "{said}");
        host.write("packages", "");
        // Somebody installs something: waited for, with their name, until the lock is free.
        std::fs::create_dir_all(host.path("var/lib/dpkg")).unwrap();
        host.write("var/lib/dpkg/lock-frontend", "");
        let lock = host.path("var/lib/dpkg/lock-frontend").metadata().unwrap().ino();
        host.write(
            "proc/locks",
            format!("1: POSIX  ADVISORY  WRITE {} fe:00:{lock} 0 EOF\n", std::process::id()),
        );
        let script = host.script(vec![Operation::Put(gulls[0].clone())]);
        let (said, over) = std::thread::scope(|scope| {
            scope.spawn(|| {
                std::thread::sleep(std::time::Duration::from_millis(1_500));
                host.write("proc/locks", "");
            });
            host.run(&script, b"", "")
        });
        assert!(over && said.contains("has the package database"), "{shell}: {said}");
        // What this brought is half unpacked, by a run that was cut: it is ours to end.
        host.write("packages", "gulls install half-installed\n");
        host.write("planned", "Inst gulls [1.0] (1.0)\n");
        host.write("var/lib/zoisite/packages.ours", "gulls\n");
        host.put(&gulls);
        assert_eq!(host.differs(&gulls), [], "{shell}");
        // How it ended is known when it has ended, from itself: a file that says so may be there before its text is.
        host.write("packages", "");
        host.program("setsid", ": >$H/var/lib/zoisite/packages.log.ended\nsleep 1\nexec \"$@\"");
        host.put(&gulls);
        assert_eq!(host.differs(&gulls), [], "{shell}");
        // Something that came later stands on what came with it: that stays, and is reported.
        host.write("stands", "");
        let said = host.uninstall();
        assert!(said.contains("@\tleft\tgull-libs"), "{shell}: {said}");
        let left = host.read("packages");
        assert!(left.contains("gull-libs") && !left.contains("gulls "), "{shell}: {left}");
    }
}

#[test]
fn a_unit_that_can_reads_its_files_again_and_goes_on_with_bad_ones_as_it_was() {
    for shell in SHELLS {
        let host = Host::new(shell);
        host.systemd("state", "active");
        let reloaded = |text: &str| -> Item {
            File { reloads: true, ..host.file("etc/served.conf", text) }.into()
        };
        let restart = || host.act(vec![Operation::Restart(UNIT)]);
        let asked = |what: &str| host.read("asked").contains(&format!("{what} {UNIT}"));
        // It cannot: it is started again.
        host.put(&[reloaded("one\n")]);
        let _ = restart();
        assert!(asked("restart") && !asked("reload") && !host.pending(), "{shell}");
        host.systemd("reloads", "yes");
        host.write("asked", "");
        host.put(&[reloaded("two\n")]);
        let _ = restart();
        assert!(asked("reload") && !asked("restart") && !host.pending(), "{shell}");
        // With files that are no good it goes on, and the mark stays.
        host.systemd("bad", "");
        host.write("asked", "");
        host.put(&[reloaded("three\n")]);
        let (said, over) = host.run(&host.script(vec![Operation::Restart(UNIT)]), b"", "");
        assert!(
            !over && said.contains("read its files again") && said.contains("no such bird"),
            "{shell}: {said}"
        );
        assert!(!asked("restart") && host.pending(), "{shell}");
        // What it reads at its start alone is more than a reload brings in, whichever came first.
        for files in [["start", "served"], ["served", "start"]] {
            std::fs::remove_file(host.path(&format!("var/lib/zoisite/pending/{UNIT}"))).unwrap();
            for file in files {
                let text = format!("{files:?}\n");
                let reloads = file == "served";
                host.put(&[
                    File { reloads, ..host.file(&format!("etc/{file}.conf"), &text) }.into()
                ]);
            }
            host.write("asked", "");
            let _ = restart();
            assert!(asked("restart") && !asked("reload"), "{shell}: {files:?}");
            host.put(&[reloaded(&format!("{files:?} again\n"))]);
        }
    }
}
