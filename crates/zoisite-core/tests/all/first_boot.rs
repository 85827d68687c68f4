//! First-boot data, on data alone.

use crate::common::{changed, host};
use serde_json::{Value, json};
use zeroize::Zeroizing;
use zoisite_core::cluster::{Cluster, HostName, read};
use zoisite_core::first_boot::{
    CarrierError, Change, HostKey, Medium, Seed, SeedError, SeedInput, SeedRecord, Way, carried,
    in_order, locked_out, may_restart, public_key_lines, read_state, way_of,
};
use zoisite_core::sequence::Rule;

const NETWORKS: &str = "[first-boot]\nnetworks = { \"10.77.0.0/24\" = \"10.77.0.254\" }\n";
const KEY: &str =
    "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDtFKKmEfzcAKT1+yzGJLI4jEW4HCyT/2tKsoUyBuPGF ada";
const OTHER: &str =
    "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIxvvCN4oQJeKZRojpp5js6TYlDtWekN2qmy4XnX9hpm bea";

fn with(lines: &str) -> Cluster {
    let reading = read(&changed("[components]\n", &format!("{lines}\n[components]\n")));
    reading.cluster.unwrap_or_else(|| panic!("{:?}", reading.findings))
}

fn findings(lines: &str) -> Vec<String> {
    let reading = read(&changed("[components]\n", &format!("{lines}\n[components]\n")));
    reading.findings.iter().map(|finding| format!("{} {}", finding.code, finding.message)).collect()
}

fn seed(cluster: &Cluster, name: &str, keys: &[&str], key: Option<&HostKey>) -> Seed {
    let keys: Vec<String> = keys.iter().map(ToString::to_string).collect();
    let told = SeedInput { keys: &keys, host_key: key, carried: None };
    Seed::of(cluster, cluster.host(&host(name)).unwrap(), told).unwrap()
}

fn user_data(seed: &Seed) -> Value {
    let text = seed.user_data.expose();
    assert!(text.starts_with("#cloud-config\n"), "{text}");
    serde_saphyr::from_str(text).unwrap()
}

#[test]
fn a_machine_learns_its_name_its_address_who_may_log_in_and_its_own_key() {
    let cluster = with(&format!(
        "{NETWORKS}routes = {{ \"192.168.0.0/16\" = \"10.77.0.253\" }}\npackages = [\"chrony\"]\n"
    ));
    let key = HostKey::of(&Zeroizing::new([7; 32])).unwrap();
    let seed = seed(&cluster, "heron", &[KEY], Some(&key));
    let data = user_data(&seed);
    assert_eq!(data["hostname"], "heron");
    assert_eq!(data["fqdn"], "heron.saltmarsh.example");
    assert_eq!(data["users"][0]["name"], "warden");
    assert_eq!(data["users"][0]["ssh_authorized_keys"], json!([KEY]));
    assert_eq!(data["write_files"][0]["path"], "/etc/sudoers.d/zz-zoisite-warden");
    assert_eq!(data["write_files"][0]["permissions"], "0440");
    assert_eq!(data["packages"], json!(["chrony"]));
    // heron is no node: its swap is its own business.
    assert_eq!(data.get("runcmd"), None);
    // What the machine proves itself with is what it will be known by.
    let private =
        ssh_key::PrivateKey::from_openssh(data["ssh_keys"]["ed25519_private"].as_str().unwrap())
            .unwrap();
    assert_eq!(private.public_key().to_openssh().unwrap().trim(), key.public);
    assert_eq!(data["ssh_keys"]["ed25519_public"], format!("{} heron", key.public));
    let card = &seed.network["ethernets"]["cluster"];
    assert_eq!(card["addresses"], json!(["10.77.0.11/24"]));
    assert_eq!(card["routes"][0], json!({"to": "0.0.0.0/0", "via": "10.77.0.254"}));
    assert_eq!(card["routes"][1], json!({"to": "192.168.0.0/16", "via": "10.77.0.253"}));
    // Search alone is not understood by every renderer.
    assert_eq!(card.get("nameservers"), None);
    assert!(seed.instance().starts_with("heron-"));
}

#[test]
fn nodes_have_no_swap_and_cards_are_found_by_what_is_known_of_them() {
    let file = changed("[components]\n", &format!("{NETWORKS}\n[components]\n"))
        .replace(
            "curlew = \"10.77.0.21\"",
            "curlew = { address = \"10.77.0.21\", mac = \"02:00:5e:10:00:21\" }",
        )
        .replace(
            "plover = \"10.77.0.22\"",
            "plover = { address = \"10.77.0.22\", interface = \"ens3\" }",
        )
        .replace("services = ", "name-servers = [\"10.77.0.1\"]\nservices = ");
    let reading = read(&file);
    let cluster = reading.cluster.unwrap_or_else(|| panic!("{:?}", reading.findings));
    let curlew = seed(&cluster, "curlew", &[KEY], None);
    assert_eq!(user_data(&curlew)["runcmd"][0], json!(["swapoff", "-a"]));
    assert_eq!(
        curlew.network["ethernets"]["cluster"]["match"],
        json!({"macaddress": "02:00:5e:10:00:21"})
    );
    assert_eq!(
        curlew.network["ethernets"]["cluster"]["nameservers"],
        json!({"addresses": ["10.77.0.1"], "search": ["saltmarsh.example"]})
    );
    let plover = seed(&cluster, "plover", &[KEY], None);
    assert_eq!(plover.network["ethernets"]["ens3"].get("match"), None);
    assert_eq!(plover.network["ethernets"]["ens3"]["addresses"], json!(["10.77.0.22/24"]));
    // Without a key that was made here nothing secret goes into it.
    assert!(!plover.user_data.expose().contains("ssh_keys"));
}

#[test]
fn in_a_mesh_a_card_has_the_address_outside() {
    let file = include_str!("../../../../lab/clusters/mesh-away.toml");
    let at = |networks: &str| {
        let reading = read(&format!("{file}\n[first-boot]\nnetworks = {{ {networks} }}\n"));
        reading.cluster.unwrap_or_else(|| panic!("{:?}", reading.findings))
    };
    let office = "\"10.77.1.0/24\" = \"10.77.1.254\"";
    let card = |cluster: &Cluster, name: &str| {
        seed(cluster, name, &[KEY], None).network["ethernets"]["cluster"].clone()
    };
    // Where one logs in may be a router that leads there: it is given an address where it stands.
    let away = card(&at(office), "tern-1");
    assert_eq!((&away["dhcp4"], away.get("addresses")), (&json!(true), None));
    let both = at(&format!("{office}, \"10.77.2.0/24\" = \"10.77.2.254\""));
    let away = card(&both, "tern-1");
    assert_eq!(away["addresses"], json!(["10.77.2.101/24"]));
    assert_eq!(away["routes"], json!([{"to": "0.0.0.0/0", "via": "10.77.2.254"}]));
    assert_eq!(card(&both, "heron")["addresses"], json!(["10.77.1.11/24"]));
    // Nobody dials it there: it may get another one as any machine may.
    let moved = [Change {
        what: "network.ethernets.cluster.addresses".into(),
        before: None,
        now: None,
        way: Way::Restart,
    }];
    let may = |name: &str| may_restart(&both, &host(name), (&moved, &[]), true);
    assert!(may("tern-1").is_ok() && may("heron").is_err());
}

#[test]
fn root_is_told_as_root_and_nobody_is_made() {
    let cluster = with(NETWORKS);
    let cluster = Cluster {
        login: zoisite_core::cluster::Login { user: Some("root".into()), ..cluster.login.clone() },
        ..cluster
    };
    let data = user_data(&seed(&cluster, "egret", &[KEY], None));
    assert_eq!(data["disable_root"], false);
    assert_eq!(data.get("write_files"), None);
    let nobody = Cluster { login: Default::default(), ..cluster };
    let told = SeedInput { keys: &[], host_key: None, carried: None };
    let refused = Seed::of(&nobody, nobody.host(&host("egret")).unwrap(), told);
    assert_eq!(refused.unwrap_err(), SeedError::NoUser(host("egret")));
}

#[test]
fn the_file_is_held_against_itself() {
    let all = findings(
        "[first-boot]\nnetworks = { \"10.77.0.0/28\" = \"10.77.1.1\" }\nroutes = { \"192.168.0.0/16\" = \"172.16.0.1\" }\n",
    );
    for text in [
        "first-boot-network curlew has the address 10.77.0.21, in none of first-boot.networks",
        "first-boot-network the router 10.77.1.1 is not in its network 10.77.0.0/28",
        "first-boot-network the router 172.16.0.1, which leads to 192.168.0.0/16, is in none",
    ] {
        assert!(all.iter().any(|finding| finding.starts_with(text)), "{text}: {all:?}");
    }
    assert!(findings("[first-boot]\n")[0].contains("first-boot.networks is missing"));
    let bad = findings(
        "[first-boot]\nnetworks = { \"10.77.0.1/24\" = \"10.77.0.1\" }\npackages = [\"Chrony; rm\"]\n",
    );
    assert!(bad.iter().any(|one| one.contains("first-boot.networks cannot be read")), "{bad:?}");
    assert!(bad.iter().any(|one| one.contains("first-boot.packages")), "{bad:?}");
}

#[test]
fn what_a_carrier_cannot_take_is_not_cut_off() {
    let cluster = with(NETWORKS);
    let seed = seed(&cluster, "heron", &[KEY], None);
    let properties = |max_size| Medium::Properties { prefix: "guestinfo.".into(), max_size };
    let files = carried(&host("heron"), &seed, &properties(65_535)).unwrap();
    let text = files[0].text.expose();
    assert!(text.starts_with("guestinfo.metadata = \"H4sI"), "{text}");
    assert!(text.contains("guestinfo.userdata.encoding = \"gzip+base64\"\n"));
    let error = carried(&host("heron"), &seed, &properties(100)).unwrap_err();
    assert!(
        matches!(error, CarrierError::TooLarge { max_size: 100, octets: 101.., .. }),
        "{error:?}"
    );
    let names = |carrier| -> Vec<String> {
        carried(&host("heron"), &seed, &carrier)
            .unwrap()
            .into_iter()
            .map(|file| file.name)
            .collect()
    };
    assert_eq!(names(Medium::Web), ["meta-data", "user-data", "network-config", "vendor-data"]);
    assert_eq!(
        names(Medium::Base64),
        ["meta-data.base64", "user-data.base64", "network-config.base64"]
    );
    // The same telling gives the same octets.
    let again = carried(&host("heron"), &seed, &properties(65_535)).unwrap();
    assert_eq!(again[0].text, files[0].text);
}

#[test]
fn a_change_goes_in_place_where_it_can_and_nothing_secret_is_recorded() {
    let cluster = with(NETWORKS);
    let key = HostKey::of(&Zeroizing::new([7; 32])).unwrap();
    let before = seed(&cluster, "heron", &[KEY], Some(&key));
    let before = SeedRecord::of(&before).unwrap();
    assert!(!serde_json::to_string(&before).unwrap().contains("PRIVATE KEY"));
    let now = SeedRecord::of(&seed(&cluster, "heron", &[OTHER], Some(&key))).unwrap();
    assert_ne!(before.instance, now.instance);
    let changes = zoisite_core::first_boot::changed(&before, &now);
    let told: Vec<_> =
        changes.iter().map(|change| (change.what.as_str(), change.now.clone())).collect();
    let keys = "users.warden.ssh_authorized_keys";
    assert_eq!(told, [(keys, None), (keys, Some(json!(OTHER)))]);
    assert_eq!(way_of(&changes), Way::InPlace);
    assert_eq!(locked_out(&before, &now), [("warden".to_owned(), KEY.to_owned())]);
    let moved = with(&NETWORKS.replace("10.77.0.254", "10.77.0.1"));
    let moved = SeedRecord::of(&seed(&moved, "heron", &[OTHER], Some(&key))).unwrap();
    assert_eq!(way_of(&zoisite_core::first_boot::changed(&now, &moved)), Way::Restart);
    assert_eq!(zoisite_core::first_boot::changed(&now, &now), []);
}

#[test]
fn machines_start_again_one_after_another_and_never_where_too_much_rests_on_them() {
    let cluster = with(NETWORKS);
    let names = ["heron", "jetty-a", "tern-1", "curlew"];
    let mut order: Vec<HostName> = names.map(host).to_vec();
    in_order(&cluster, &mut order);
    assert_eq!(order, ["tern-1", "jetty-a", "curlew", "heron"].map(host));
    assert_eq!(may_restart(&cluster, &host("heron"), (&[], &[]), false), Ok(()));
    let ailing = ["egret does not answer".to_owned()];
    let refusals = may_restart(&cluster, &host("heron"), (&[], &ailing), true).unwrap_err();
    assert_eq!(refusals[0].rule, Rule::OneAtATime);
    // Others dial it by the address that it has.
    let before = SeedRecord::of(&seed(&cluster, "heron", &[KEY], None)).unwrap();
    let mut moved = before.clone();
    moved.network["ethernets"]["cluster"]["addresses"] = json!(["10.77.0.99/24"]);
    let changes = zoisite_core::first_boot::changed(&before, &moved);
    let refusals = may_restart(&cluster, &host("heron"), (&changes, &[]), true).unwrap_err();
    assert_eq!(refusals[0].rule, Rule::SafeWay);
    let alone = Cluster {
        etcd: zoisite_core::cluster::Etcd { members: vec![host("heron")], ..cluster.etcd.clone() },
        ..cluster
    };
    let refusals = may_restart(&alone, &host("heron"), (&[], &[]), false).unwrap_err();
    assert_eq!(refusals[0].rule, Rule::QuorumFirst);
    assert_eq!(may_restart(&alone, &host("heron"), (&[], &[]), true), Ok(()));
}

#[test]
fn only_public_keys_are_taken_and_what_a_machine_says_is_read() {
    assert_eq!(public_key_lines(&format!("# ada\n\n{KEY}\n{OTHER}\n")).unwrap(), [KEY, OTHER]);
    let private = HostKey::of(&Zeroizing::new([7; 32])).unwrap().private;
    assert!(public_key_lines(private.expose()).unwrap_err().contains("private key"));
    assert!(public_key_lines("ssh-ed25519 AAAA").unwrap_err().contains("no public SSH key"));
    assert!(public_key_lines("\n").is_err());
    let heard = read_state("@\tboot\tb1\n@\tinstance\theron-1\n@\tstate\tdone\n@\tend\n");
    assert_eq!((heard.boot.as_str(), heard.instance.as_deref()), ("b1", Some("heron-1")));
    assert_eq!(read_state("@\tboot\tb1\n").instance, None);
    assert!(!heard.is_at_it() && read_state("@\tboot\tb1\n@\tleaving\n").is_at_it());
    assert!(read_state("@\tinstance\theron-1\n@\tstate\trunning\n").is_at_it());
}
