//! Nodes that run Windows: what is checked before, what the others hold for them, and their join files, which are PowerShell.

use crate::common::{Known, Trust, at, changed, host};
use zoisite_core::cluster::{Cluster, Grade, Reading, read};
use zoisite_core::components::{Platform, needed};
use zoisite_core::holdings::{HostFacts, HostHoldings, Part, WindowsAct, holdings, node_wanted};
use zoisite_core::item::{ComponentSums, Item, KeyText};
use zoisite_core::join_file::windows::{Brought, join_file, sealed, verifier};
use zoisite_core::join_file::{Addressed, Errand, Signer, make_word};
use zoisite_core::pki::{KeyKind, KeySource as _, Secret, SecretRef};
use zoisite_core::sequence::Sequence;
use zoisite_core::survey::{Facts, judge};

const OWN: &str = "tern-9 = { address = \"10.77.0.109\", offline = true, windows = \"2022\" }";

/// The demo with a worker that runs Windows.
fn text() -> String {
    changed("[hosts]\n", &format!("[hosts]\n{OWN}\n"))
        .replace("[network]\n", "[network]\nwindows-pods = \"10.93.0.0/16\"\n")
        .replace(
            "[components]\n",
            "[components]\nruntime = \"2.1.4\"\nrunc = \"1.3.0\"\nnetwork-plugins = \"1.8.0\"\n",
        )
}

fn cluster() -> Cluster {
    let reading = read(&text());
    assert!(blocking(&reading).is_empty(), "{:?}", blocking(&reading));
    reading.cluster.unwrap()
}

fn blocking(reading: &Reading) -> Vec<String> {
    let blocks = reading.findings.iter().filter(|finding| finding.grade == Grade::Blocks);
    blocks.map(|finding| finding.message.clone()).collect()
}

/// What one host holds, where the overlay's end of tern-9 is known.
fn held(cluster: &Cluster, trust: &Trust, name: &str) -> HostHoldings {
    let mut known = Known::of(cluster);
    let overlay_mac = Some("00:15:5d:aa:bb:cc".to_owned());
    let facts = HostFacts { overlay_mac, ..HostFacts::default() };
    known.facts.insert(host("tern-9"), facts);
    let all = holdings(cluster, known.sources(&trust.ledger, "cafe"), Part::ALL).unwrap();
    all.host(&host(name)).unwrap().clone()
}

fn trusted(cluster: &Cluster) -> Trust {
    let mut trust = Trust::new(cluster, at("2026-11-29"));
    let _ = trust.issue(cluster, at("2026-11-29"));
    trust
}

fn file(holdings: &HostHoldings, path: &str) -> String {
    let file = holdings.files().find(|file| file.path == path);
    file.unwrap_or_else(|| panic!("no {path}")).content.whole_text().unwrap()
}

#[test]
fn what_windows_cannot_do_is_refused_before_anything_is_done() {
    let text = text();
    for (from, to, found) in [
        ("offline = true, ", "", "nothing is done there over SSH"),
        ("windows-pods = \"10.93.0.0/16\"\n", "", "its pods have no range"),
        ("\"10.93.0.0/16\"", "\"fd5a:93::/48\"", "is one range of IPv4"),
        ("\"10.93.0.0/16\"", "\"10.90.128.0/17\"", "overlaps network.pods"),
        ("\"10.93.0.0/16\"", "\"10.93.0.0/25\"", "has room for 0 nodes"),
        ("network-plugins = \"1.8.0\"\n", "", "brings components.network-plugins"),
        ("windows = \"2022\"", "windows = \"2012\"", "one of 2022, 2025"),
        ("10.77.0.109", "fd77::109", "whose overlay is of IPv4"),
        ("[network]\n", "[network]\npod-network = \"manifests\"\n", "make the pod network"),
        (
            "[network]\n",
            "[certificates]\nkeys-made = \"on-hosts\"\n\n[network]\n",
            "make the keys of nodes themselves",
        ),
    ] {
        assert!(text.contains(from), "{from}");
        let reading = read(&text.replacen(from, to, 1));
        let told = format!("{:?}", reading.findings);
        assert!(told.contains(found), "{found}: {told}");
    }
    // A range for nobody is reported, and stops nothing.
    let reading = read(&text.replace(&format!("{OWN}\n"), ""));
    assert!(blocking(&reading).is_empty());
    assert!(reading.findings.iter().any(|finding| finding.code == "windows-pods"));
}

#[test]
fn its_pods_have_a_range_of_their_own_and_only_what_is_made_for_it_lands_there() {
    let cluster = cluster();
    let known = Known::of(&cluster);
    assert_eq!(known.subnets[&host("tern-9")][0].to_string(), "10.93.0.0/24");
    assert_eq!(known.subnets[&host("tern-1")][0].to_string().split('.').nth(1), Some("90"));
    let wanted = node_wanted(&cluster, &host("tern-9"), &known.subnets[&host("tern-9")]);
    let taint = &wanted.taints[0];
    assert_eq!(
        (taint.key.as_str(), taint.value.as_str(), taint.effect.as_str()),
        ("os", "windows", "NoSchedule")
    );
    assert!(wanted.labels.contains_key("node-role.kubernetes.io/worker"));
    assert!(node_wanted(&cluster, &host("tern-1"), &[]).taints.is_empty());
}

#[test]
fn the_others_reach_its_pods_through_the_overlay_and_through_nothing_else() {
    let cluster = cluster();
    let trust = trusted(&cluster);
    let tern = held(&cluster, &trust, "tern-1");
    let routes = file(&tern, "/etc/zoisite/network/routes");
    for line in [
        "link add zoisite-vx type vxlan external dstport 4789 local 10.77.0.101",
        "link set zoisite-vx address 02:7a:0a:4d:00:65 mtu 1450 up",
        "neigh replace 10.93.0.1 lladdr 00:15:5d:aa:bb:cc dev zoisite-vx nud permanent",
        "route replace 10.93.0.0/24 via 10.93.0.1 dev zoisite-vx onlink proto 90 encap ip id 4096 dst 10.77.0.109",
    ] {
        assert!(routes.lines().any(|own| own == line), "{line}\n{routes}");
    }
    assert!(!routes.contains("via 10.77.0.109"), "{routes}");
    let masquerade = file(&tern, "/etc/zoisite/network/masquerade.nft");
    assert!(masquerade.contains("daddr != { 10.90.0.0/16, 10.93.0.0/16 }"), "{masquerade}");
    // Taken out of the file, it is still there, until it is retired.
    let left = read(&text().replace(&format!("{OWN}\n"), "")).cluster.unwrap();
    let mut known = Known::of(&cluster);
    known.departed.insert(host("tern-9"), "10.77.0.109".parse().unwrap());
    let overlay_mac = Some("00:15:5d:aa:bb:cc".to_owned());
    known.facts.insert(host("tern-9"), HostFacts { overlay_mac, ..HostFacts::default() });
    let all = holdings(&left, known.sources(&trust.ledger, "cafe"), Part::ALL).unwrap();
    let still = file(all.host(&host("tern-1")).unwrap(), "/etc/zoisite/network/routes");
    assert_eq!(still, routes);
    // Before it has told its end of the overlay there is no way to its pods, and none is guessed.
    let known = Known::of(&cluster);
    let all = holdings(&cluster, known.sources(&trust.ledger, "cafe"), Part::ALL).unwrap();
    let routes = file(all.host(&host("tern-1")).unwrap(), "/etc/zoisite/network/routes");
    assert!(!routes.contains("10.93.0.0/24") && routes.contains("link add"), "{routes}");
    // Without such hosts nothing changes for anybody.
    let plain = crate::common::saltmarsh();
    let tern = held(&plain, &trusted(&plain), "tern-1");
    assert!(!file(&tern, "/etc/zoisite/network/routes").contains("zoisite-vx"));
}

#[test]
fn it_holds_what_its_join_file_puts_there_and_no_item_of_linux() {
    let cluster = cluster();
    let own = held(&cluster, &trusted(&cluster), "tern-9");
    assert!(own.items.is_empty(), "{:?}", own.items.first().map(Item::describe));
    let own = own.windows.unwrap();
    let overlay = own.acts.iter().find_map(|act| match act {
        WindowsAct::Overlay(overlay) => Some(overlay),
        _ => None,
    });
    let overlay = overlay.unwrap();
    assert_eq!(overlay.subnet.to_string(), "10.93.0.0/24");
    // Every other node, at its own address.
    assert_eq!(overlay.remotes.len(), cluster.nodes().len() - 1);
    let tern = overlay.remotes.iter().find(|remote| remote.address.to_string() == "10.77.0.101");
    assert_eq!(tern.unwrap().mac, "02:7a:0a:4d:00:65");
    let services: Vec<_> = own
        .acts
        .iter()
        .filter_map(|act| match act {
            WindowsAct::Service { name, .. } => Some(*name),
            _ => None,
        })
        .collect();
    assert_eq!(services, ["zoisite-containerd", "zoisite-kubelet", "zoisite-kube-proxy"]);
    // Its programs are among what is fetched, for its own system.
    let needs = needed(&cluster, &[], &["amd64".to_owned()].into(), &Platform::host("amd64"));
    let places: Vec<&str> = needs.places().collect();
    for pinned in own.programs() {
        let path = pinned.path_on_windows();
        assert!(places.contains(&path.as_str()), "{path} is not among {places:?}");
    }
}

/// A join file of tern-9, and the key that opens its secrets.
fn its_file(errand: Errand<'_>) -> String {
    let cluster = cluster();
    let trust = trusted(&cluster);
    let own = held(&cluster, &trust, "tern-9").windows.unwrap();
    let tern = cluster.host(&host("tern-9")).unwrap();
    let made = at("2026-11-29");
    let to = Addressed {
        cluster: &cluster,
        identity: "cafe",
        host: tern,
        number: 7,
        made,
        expires: made,
    };
    let mut sums = ComponentSums::default();
    for pinned in own.programs() {
        sums.insert(pinned.path_on_windows(), "ab".repeat(32));
    }
    let brought = Brought { sums: &sums, from: None, authority: "-----BEGIN" };
    let key = trust.keys.key(KeyKind::EcdsaP256).unwrap().private;
    let open = |secret: &SecretRef| match secret {
        SecretRef::Certificate(serial) => {
            trust.secrets.iter().find(|(own, _)| own == serial).map(|(_, key)| key.clone())
        }
        _ => Some(Secret::new("marsh1.gullsandternsfly".into())),
    };
    let how = (KeyText::Opened(&open), &make_word([7; 25]), &Signer::of(&key).unwrap());
    join_file(to, errand, &own, brought, how).unwrap().expose().to_owned()
}

#[test]
fn its_join_file_is_powershell_whole_and_says_nothing_secret() {
    let sequence = Sequence::default();
    let join = Errand::Join { sequence: &sequence, arch: "amd64", from: None, by: None };
    for errand in [Errand::Look, join, Errand::Uninstall] {
        let text = its_file(errand);
        assert!(text.is_ascii() && !text.contains("PRIVATE KEY") && !text.contains("marsh1.gulls"));
        assert_eq!(mistakes(&text), Vec::<String>::new());
        // Of one that was cut before its last line nothing would be begun.
        let cut = &text[..text.find("exit (Invoke-Main)").unwrap()];
        assert!(!cut.lines().any(|line| line.starts_with("Invoke-")), "{cut}");
    }
}

#[test]
fn what_proves_its_join_file_is_powershell_whole_and_holds_the_public_key() {
    let key = trusted(&cluster()).keys.key(KeyKind::EcdsaP256).unwrap().private;
    let signer = Signer::of(&key).unwrap();
    let text = verifier(&signer);
    assert_eq!(mistakes(&text), Vec::<String>::new());
    assert!(text.is_ascii() && !text.contains("PRIVATE KEY"), "{text}");
    assert!(text.contains(signer.fingerprint()), "{text}");
    // Of one that was cut before its last line nothing would be begun.
    let (cut, last) = text.trim_end().rsplit_once('\n').unwrap();
    assert_eq!(last, "Invoke-Main");
    assert!(!cut.lines().any(|line| line.starts_with("Invoke-")), "{cut}");
}

/// Lines at which a parser of PowerShell finds a mistake.
fn mistakes(text: &str) -> Vec<String> {
    let mut parser = tree_sitter::Parser::new();
    parser.set_language(&tree_sitter_powershell::LANGUAGE.into()).unwrap();
    let tree = parser.parse(text, None).unwrap();
    let mut errors = Vec::new();
    if tree.root_node().has_error() {
        stumbled(text, tree.root_node(), &mut errors);
    }
    errors
}

/// Where a parser stumbled.
fn stumbled(text: &str, node: tree_sitter::Node<'_>, out: &mut Vec<String>) {
    let mut cursor = node.walk();
    let within: Vec<_> = node.children(&mut cursor).filter(tree_sitter::Node::has_error).collect();
    if within.is_empty() {
        let line = node.start_position().row;
        out.push(format!("line {}: {}", line + 1, text.lines().nth(line).unwrap_or_default()));
    }
    within.into_iter().for_each(|child| stumbled(text, child, out));
}

#[test]
fn what_is_sealed_can_be_read_before_without_its_keys() {
    let cluster = cluster();
    let trust = trusted(&cluster);
    let own = held(&cluster, &trust, "tern-9").windows.unwrap();
    let tern = cluster.host(&host("tern-9")).unwrap();
    let made = at("2026-11-29");
    let to = Addressed {
        cluster: &cluster,
        identity: "cafe",
        host: tern,
        number: 0,
        made,
        expires: made,
    };
    let sequence = Sequence::default();
    let errand = Errand::Join { sequence: &sequence, arch: "amd64", from: None, by: None };
    let none = ComponentSums::default();
    let brought =
        Brought { sums: &none, from: Some("https://files.saltmarsh.example"), authority: "" };
    let shown = sealed(to, errand, &own, brought, KeyText::Masked).unwrap();
    let text = shown.to_string();
    assert!(!text.contains("PRIVATE KEY") && text.contains("stands here"), "{text}");
    assert_eq!(shown["acts"][0]["do"], "feature");
    assert_eq!(shown["stable"]["port"], 6443);
    // A program of which nobody knows the checksum is not carried there.
    let open = |_: &SecretRef| Some(Secret::new(String::new()));
    let why = sealed(to, errand, &own, brought, KeyText::Opened(&open)).unwrap_err();
    assert!(why.contains("for Windows"), "{why}");
}

#[test]
fn it_is_judged_by_its_own_rules() {
    let cluster = cluster();
    let said = |os: &str| {
        let text = format!(
            "@\tos\t{os}\n@\trelease\tWindows Server\n@\taddress\t2: Ethernet    inet 10.77.0.109/24 scope global\n@\tend\n"
        );
        let facts = Facts::read(&text, None).unwrap();
        judge(&cluster, &[(host("tern-9"), facts)].into(), None, None)
    };
    assert_eq!(said("windows 10.0.20348"), []);
    let found = said("windows 10.0.26100");
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!(found[0].code, "windows-release");
}
