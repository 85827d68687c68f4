//! The simulated machine that runs Windows: it carries acts out, goes on where it was cut, and finds what could not be.

use serde_json::{Value, json};
use zoisite_reach::WindowsMachine;

fn acts() -> Vec<Value> {
    let overlay = json!({
        "do": "overlay", "name": "zoisite", "identifier": 4096, "subnet": "10.93.0.0/24",
        "remotes": [{"subnet": "10.90.0.0/24", "address": "10.77.0.11", "mac": "02:7a:0a:4d:00:0b"}],
    });
    vec![
        json!({"do": "feature", "name": "Containers"}),
        json!({"do": "folder", "path": "C:\\zoisite", "private": true}),
        json!({"do": "folder", "path": "C:\\zoisite\\logs", "private": false}),
        json!({"do": "program", "path": "C:\\zoisite\\kubelet.exe", "sha256": "a".repeat(64), "restarts": "kubelet"}),
        json!({"do": "file", "path": "C:\\zoisite\\tls.key", "content": "PRIVATE KEY", "restarts": "kubelet"}),
        json!({"do": "file", "path": "C:\\zoisite\\kubelet.yaml", "content": "key: C:\\zoisite\\tls.key\n", "restarts": "kubelet"}),
        overlay,
        json!({"do": "port", "name": "kubelet", "udp": false, "port": 10250, "from": ["10.77.0.11"]}),
        json!({"do": "token", "path": "C:\\zoisite\\join.token", "token": "abcdef.0123456789abcdef"}),
        json!({"do": "service", "name": "kubelet", "needs": [],
               "command": "C:\\zoisite\\kubelet.exe --config=C:\\zoisite\\kubelet.yaml -log-file=C:\\zoisite\\logs\\kubelet.log"}),
    ]
}

#[test]
fn cut_anywhere_it_goes_on_and_done_again_it_changes_nothing() {
    let acts = acts();
    let mut whole = WindowsMachine::default();
    assert_eq!(whole.carry_out(&acts), Ok(acts.len()));
    assert_eq!(whole.carry_out(&acts), Ok(0));
    assert_eq!(whole.begun(), ["kubelet"]);
    for cut in 0..acts.len() {
        let mut machine = WindowsMachine::default();
        assert_eq!(machine.carry_out(&acts[..cut]), Ok(cut));
        assert_eq!(machine.carry_out(&acts), Ok(acts.len() - cut));
        assert_eq!(machine, whole, "cut after {cut}");
    }
}

#[test]
fn what_a_service_reads_has_it_begin_again_also_where_that_was_cut() {
    let mut machine = WindowsMachine::default();
    machine.carry_out(&acts()).unwrap();
    let mut changed = acts();
    changed[5]["content"] = "key: C:\\zoisite\\tls.key\nmaxPods: 42\n".into();
    // The file was put, and then the machine lost its power.
    machine.carry_out(&changed[..6]).unwrap();
    machine.carry_out(&changed).unwrap();
    assert_eq!(machine.begun(), ["kubelet", "kubelet"]);
    machine.carry_out(&changed).unwrap();
    assert_eq!(machine.begun().len(), 2);
}

#[test]
fn what_could_not_be_on_a_real_one_is_found() {
    type Spoil = fn(&mut Vec<Value>);
    let spoilt: [(Spoil, &str); 8] = [
        (|acts| drop(acts.remove(1)), "there is no folder C:\\zoisite"),
        (|acts| acts[1]["private"] = false.into(), "for everybody to read"),
        (|acts| drop(acts.remove(3)), "C:\\zoisite\\kubelet.exe is not there"),
        (|acts| drop(acts.remove(4)), "C:\\zoisite\\tls.key is not there"),
        (|acts| acts[3]["sha256"] = "".into(), "is no checksum"),
        (|acts| acts[6]["identifier"] = 7.into(), "no identifier below 4096"),
        (|acts| acts[6]["remotes"][0]["subnet"] = "10.93.0.0/16".into(), "is there twice"),
        (|acts| acts[7]["from"] = json!([]), "open to everybody"),
    ];
    for (spoil, found) in spoilt {
        let mut acts = acts();
        spoil(&mut acts);
        let why = WindowsMachine::default().carry_out(&acts).unwrap_err();
        assert!(why.contains(found), "{found}: {why}");
    }
    let unknown = [json!({"do": "sing"})];
    assert!(WindowsMachine::default().carry_out(&unknown).unwrap_err().contains("'sing'"));
}
