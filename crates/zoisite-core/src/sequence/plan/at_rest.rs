//! What is encrypted in etcd by another key than the one in use is written again.

use super::membership::well;
use super::{Draft, Phase, Step, Work};

/// Plans it, once every API server encrypts by `key` (`control` are their gates).
pub(super) fn plan(draft: &mut Draft<'_>, key: &str, control: Vec<usize>) {
    let work = Work::Rewrite { key: key.to_owned(), through: well(draft, None) };
    let what =
        format!("write again every secret that etcd holds and that is not encrypted by {key}");
    let why = "the key before it is accepted until nothing needs it any more".to_owned();
    let step = Step::new("secrets", Phase::ControlPlane, what, work).because([why]);
    draft.push(step.after(control));
}
