//! The design, and what is made of it, by the built program on files in a folder of its own: no host is
//! touched.

use crate::common::Place;

const DEMO: &str = include_str!("../../../../demo/saltmarsh/zoisite.toml");

fn demo() -> Place {
    let place = Place::new();
    place.write("zoisite.toml", DEMO);
    place
}

#[test]
fn the_design_is_shown_and_told_to_programs() {
    let place = demo();
    let _ = place
        .run(&["design"])
        .ended(0)
        .says("any two of heron, egret, ibis")
        .says("jetty-a and jetty-b ")
        .says("✗ outage: no quorum (1 of 3 members left)")
        .says("as designed it survives the loss of any one of its 11 hosts")
        .says("6 of 256 nodes, a /24 each; 250 left")
        .says("What machines need at least");
    let told = place.run(&["design", "losses", "--survive", "1", "--json"]).ended(0).json();
    assert_eq!(told["losses"].as_array().unwrap().len(), 6, "{told:#}");
    assert_eq!(told["survive"]["change"], serde_json::Value::Null, "{told:#}");
    assert!(told.get("sizes").is_none(), "{told:#}");
    let _ = place.run(&["design", "--survive", "9"]).ended(2);
    assert!(!place.path(".zoisite").exists(), "nothing is kept of a design");
}

#[test]
fn what_the_site_needs_is_written_form_by_form_or_as_a_folder() {
    let place = demo();
    let hosts = place.run(&["network-files", "hosts"]).ended(0);
    assert!(hosts.stdout.contains("10.77.0.5 api.saltmarsh.example\n"), "{}", hosts.stdout);
    let out = place.path("network-files");
    let done = place.run(&["network-files", "--out", out.to_str().unwrap()]).ended(0);
    let _ = done
        .says("Wrote 6 files")
        .complains("reservations.csv: heron and 10 more, whose hardware address is not known");
    assert!(
        place.read("network-files/reverse.zone").contains("11 IN PTR heron.saltmarsh.example.")
    );
    assert!(
        place
            .read("network-files/routes.batch")
            .contains("route replace 10.90.0.0/24 via 10.77.0.21")
    );
    assert!(!place.path(".zoisite").exists(), "subnets are looked ahead to, and not given");
    place.write("zoisite.toml", DEMO.replace("api.saltmarsh.example", "10.77.0.31"));
    let _ = place.run(&["network-files", "zone"]).ended(2).complains("network.zone");
    // What stands there already is replaced on purpose alone.
    place.write("zoisite.toml", DEMO.replace("heron = \"10.77.0.11\"", "heron = \"10.77.0.19\""));
    let again = ["network-files", "--out", out.to_str().unwrap()];
    let _ =
        place.run(&again).ended(2).complains("files that say something else").complains("hosts");
    assert!(
        place.read("network-files/reverse.zone").contains("11 IN PTR heron.saltmarsh.example.")
    );
    let _ = place.run(&[&again[..], &["--force"]].concat()).ended(0);
    assert!(
        place.read("network-files/reverse.zone").contains("19 IN PTR heron.saltmarsh.example.")
    );
    let _ = place.run(&["network-files"]).ended(2);
}

#[test]
fn a_new_file_comes_from_a_table_or_an_ssh_configuration() {
    let place = Place::new();
    place.write(
        "hosts.csv",
        "Name,Address,Role,Owner\nheron,10.77.0.11,etcd+control-plane,ada\negret,10.77.0.12,worker,\n",
    );
    let new = |extra: &[&str]| {
        let mut args = vec!["new", "saltmarsh"];
        args.extend(extra);
        place.run(&args)
    };
    let _ = new(&["--table", "hosts.csv", "--endpoint", "api.saltmarsh.example:6443"])
        .ended(0)
        .complains("columns that mean nothing here: owner");
    let file = place.read("zoisite.toml");
    assert!(file.contains("endpoint = \"api.saltmarsh.example:6443\""), "{file}");
    assert!(file.contains("members = [\"heron\"]"), "{file}");
    let _ = place.run(&["check"]).ended(0);

    // What is wrong is said at once, and what was there stays.
    place.write("hosts.csv", "name,address\nheron,10.77.0.11\negret,10.77.0.11\nibis,\n");
    let _ = new(&["--table", "hosts.csv", "--force"])
        .ended(2)
        .complains("line 3: 10.77.0.11 stands on line 2 too")
        .complains("line 4: it has no address")
        .complains("nothing was written");
    assert_eq!(place.read("zoisite.toml"), file);
    let _ = new(&["10.77.0.11", "--endpoint", "api"]).ended(2).complains("the port is missing");

    place.write(
        "ssh_config",
        "Host *.example\n  User warden\nHost heron\n  HostName 10.77.0.11\nHost egret plover\n  HostName 10.77.0.12\n",
    );
    let _ = new(&["--ssh-hosts", "ssh_config", "--force"])
        .ended(2)
        .complains("egret and plover are both at 10.77.0.12");
    let _ = new(&["--ssh-hosts", "ssh_config", "--force", "gull"])
        .ended(2)
        .complains("no Host line names 'gull'");
    let _ = new(&["--ssh-hosts", "ssh_config", "--force", "heron", "e*"]).ended(0);
    let file = place.read("zoisite.toml");
    assert!(file.contains("egret = \"10.77.0.12\"") && !file.contains("plover ="), "{file}");
    assert!(file.contains("\nssh-config = \""), "{file}");
}

#[test]
fn who_must_reach_whom_is_shown_and_written_as_rules() {
    let place = demo();
    let _ = place.run(&["paths"]).ended(0).says("etcd clients").says("curlew, plover, sandpiper");
    let _ = place
        .run(&["paths", "outside"])
        .ended(0)
        .says("as long as Zoisite is to look after the host");
    let args = ["paths", "rules", "heron", "jetty-a", "--format", "ufw", "--clients", "10.0.0.0/8"];
    let _ = place
        .run(&args)
        .ended(0)
        .says("ufw allow proto tcp from 10.77.0.12 to any port 2380 comment 'etcd peers'")
        .says("ufw allow proto tcp from 10.0.0.0/8 to any port 6443 comment 'API endpoint'")
        .complains("heron: SSH is open to everybody: --administrators RANGE narrows it");
    let told = place.run(&["paths", "--json"]).ended(0).json();
    assert_eq!(told["demands"].as_array().unwrap().len(), 10, "{told:#}");
    let told = place.run(&["paths", "rules", "tern-*", "--json"]).ended(0).json();
    assert_eq!(told.as_object().unwrap().len(), 3, "{told:#}");
    assert_eq!(told["tern-1"]["format"], "nftables");
    let _ = place.run(&["paths", "rules", "gull"]).ended(2).complains("no host gull");
    let _ = place.run(&["paths", "rules"]).ended(2);
    let _ = place
        .run(&["paths", "rules", "heron", "--clients", "everybody"])
        .ended(2)
        .complains("10.77.0.0/24");
    assert!(!place.path(".zoisite").exists(), "nothing is kept of it");
}

#[test]
fn a_survey_of_hosts_that_are_away_says_so_and_keeps_nothing() {
    let place = demo();
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    place.write("ssh_config", format!("Host *\n  HostName 127.0.0.1\n  Port {closed}\n"));
    // A path that starts where the command is given.
    let config = "ssh_config";
    let survey =
        |args: &[&str]| place.run(&[&["--ssh-config", config, "survey"][..], args].concat());
    let _ = survey(&[]).ended(3).says("Connection refused").says("no host answered");
    let told = survey(&["heron", "--json"]).ended(3).json();
    assert_eq!((&told["fit"], told["troubles"].as_array().unwrap().len()), (&false.into(), 1));
    assert_eq!(told["troubles"][0]["host"], "heron");
    // Watched for a moment, it ends with the status that says which.
    let done = survey(&["heron", "--watch", "--for", "7s"]).ended(3);
    assert!(
        done.stdout.lines().filter(|line| line.contains("Connection refused")).count() == 1,
        "{done:?}"
    );
    let _ = done.says("0 of 1 host have appeared").complains("the time is over");
    assert!(!place.path(".zoisite").exists(), "nothing was seen that could be kept");
    let _ = survey(&["--for", "7s"]).ended(2);
    let _ = survey(&["gull"]).ended(2).complains("no host gull");
    let _ = place
        .run(&["--ssh-config", config, "paths", "try", "heron", "egret"])
        .ended(3)
        .says("not tried");
}

#[test]
fn hosts_that_are_not_there_are_told_by_the_stage_at_which_they_stop() {
    let place = demo();
    // Loopback alone: one port that nobody listens at, one that speaks no SSH, one that closes at once.
    let mute = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let rude = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let (mute_port, rude_port) =
        (mute.local_addr().unwrap().port(), rude.local_addr().unwrap().port());
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in rude.incoming() {
            drop(stream);
        }
    });
    std::thread::spawn(move || {
        for stream in mute.incoming() {
            let _ = std::io::Write::write_all(
                &mut stream.unwrap(),
                b"HTTP/1.0 400 Bad Request\r\n\r\n",
            );
        }
    });
    place.write(
        "ssh_config",
        format!(
            "Host heron\n  HostName 127.0.0.1\n  Port {closed}\nHost egret\n  HostName 127.0.0.1\n  Port {mute_port}\n\
             Host ibis\n  HostName 127.0.0.1\n  Port {rude_port}\nHost curlew\n  HostName curlew.invalid\n"
        ),
    );
    let config = place.path("ssh_config");
    let config = config.to_str().unwrap();
    let args = ["--ssh-config", config, "login", "heron", "egret", "ibis", "curlew", "--json"];
    let said = place.run(&args).ended(3).json();
    let hosts = said["hosts"].as_array().unwrap();
    let stop = |name: &str| {
        let host = hosts.iter().find(|host| host["host"] == name).unwrap();
        (host["stopped"]["stage"].as_str().unwrap(), host["stopped"]["trouble"].to_string())
    };
    assert_eq!(stop("heron").0, "port");
    let (stage, why) = stop("egret");
    assert!(stage == "server" && why.contains("does not speak SSH: HTTP/1.0 400"), "{why}");
    let (stage, why) = stop("ibis");
    assert!(stage == "server" && why.contains("closed the connection without a word"), "{why}");
    assert_eq!(stop("curlew").0, "name");
    // Nothing there can be opened by a password, and nobody is asked for one.
    let args = ["--ssh-config", config, "login", "setup", "heron", "egret", "ibis", "curlew"];
    let _ = place.run(&args).ended(3).says("4 of 4 hosts do not let you in");
    let _ =
        place.run(&["login", "setup", "--undo"]).ended(0).says("Nothing was placed on any host.");
    let _ = place.run(&["login", "gull"]).ended(2).complains("the cluster file has no host gull");
}

#[test]
fn a_new_file_with_an_address_that_moves_survives_the_loss_of_any_one_host() {
    for hosts in ["10.77.0.11-13", "10.77.0.11-15", "10.77.0.11-19"] {
        let place = Place::new();
        let alone = place.run(&["new", "saltmarsh", hosts]).ended(0);
        let _ = alone.complains("--virtual-ip ADDRESS names one that moves");
        let _ = place.run(&["check"]).ended(0).says("load-balancers.virtual-ip");
        let words = ["new", "saltmarsh", hosts, "--virtual-ip", "10.77.0.5", "--force"];
        let new = place.run(&words).ended(0).says("it survives the loss of any one");
        assert!(!new.stderr.contains("--virtual-ip"), "{new:?}");
        let checked = place.run(&["--cluster", "gone.toml", "check", "zoisite.toml"]).ended(0);
        assert!(!checked.stdout.contains("single-point-of-failure"), "{hosts}: {checked:?}");
        assert!(place.read("zoisite.toml").contains("\nendpoint = \"10.77.0.5:6443\""));
    }
    let place = Place::new();
    let _ = place.run(&["new", "saltmarsh", "10.77.0.11-13", "--virtual-ip", "gull"]).ended(2);
    assert!(!place.path("zoisite.toml").exists());
}
