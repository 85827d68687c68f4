//! Typed operations, written as readable POSIX sh, and the replies of the hosts.
//!
//! Everything that happens on a host is an [`Operation`] in a [`Stretch`]; the rehearsal carries them
//! out as data, and [`Stretch::script`] writes them as one script for `sudo sh`. Its body is one
//! function called on the last line, so a script cut in transit does nothing; commands in it read
//! from /dev/null; file contents stand in here-documents, so nothing secret is an argument. Replies
//! are lines beginning with `@`; [`Observed`] and [`Reply`] are read from them.

mod observe;
mod operation;
mod pace;
mod relay;
mod reply;

pub(crate) use observe::etcd_data;
pub use observe::{Depth, observe};
pub(crate) use operation::acting;
pub use operation::{
    MadeData, Operation, Stretch, fetch_script, keep_rules_script, notes_script, uninstall_script,
    upload_script,
};
pub use pace::Pace;
pub use relay::{RELAY_PORT, offer_script, offered, sink_script, withdraw_script};
pub use reply::{
    AddressFacts, EtcdFacts, EtcdMember, EtcdStatus, Identity, Noted, Notes, Observed, Outcome,
    Piece, Reply, Unread,
};
pub(crate) use reply::{
    architecture, fields, key_request, members as member_list, nature, status as member_status,
};

/// Who holds a port, by the names of the program and its unit, each empty where it is not known.
pub(crate) fn holder(program: &str, unit: &str) -> String {
    match (program, unit) {
        ("", _) => "something".to_owned(),
        (program, "") => program.to_owned(),
        (program, unit) => format!("{program} ({unit})"),
    }
}

const COMMON: &str = include_str!("common.sh");

/// Wraps a body so that nothing of it runs unless all of it has arrived.
pub(crate) fn wrapped(title: &str, helpers: &[&str], body: &str) -> String {
    let parts = COMMON.len() + helpers.iter().map(|helper| helper.len()).sum::<usize>();
    // With room for everything at once, no copy of a part is left behind by growing.
    let mut out = String::with_capacity(parts + body.len() + title.len() + 512);
    out.push_str(&format!(
        "# {}\nzoisite() {{\nset -u\nexport LC_ALL=C\numask 077\n",
        title.replace('\n', " ")
    ));
    for helper in std::iter::once(&COMMON).chain(helpers) {
        out.push_str(helper);
    }
    out.push_str("# --- what is done here ---\n");
    out.push_str(body);
    out.push_str("say end\n}\nzoisite </dev/null\n");
    out
}

/// A script of the way in: the same wrapping, with helpers of its own.
pub(crate) fn wrapped_login(title: &str, helpers: &str, body: &str) -> String {
    wrapped(&format!("zoisite: {title}"), &[helpers], body)
}

/// A script that looks, with helpers of its own beside those of every look.
pub(crate) fn wrapped_look(title: &str, helpers: &str, body: &str) -> String {
    wrapped(&format!("zoisite: {title}"), &[observe::OBSERVE, helpers], body)
}
