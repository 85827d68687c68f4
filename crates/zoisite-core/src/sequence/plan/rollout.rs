//! How changes follow one another that interrupt what hosts serve, for every part.
//!
//! Members, control planes and load balancers go one by one, each behind the gate after the one before. Nodes go in
//! waves, first one and then a share: their steps only say what they disrupt, and the engine's budget lets them
//! begin as others come back. In both, what does not come back ends the rollout of its part.

use super::Draft;

/// One after another: each turn changes a host (after the gates before it), then proves that it is back. Returns
/// the last gates.
pub(super) fn one_by_one<T>(
    draft: &mut Draft<'_>,
    turns: &[T],
    before: Vec<usize>,
    change: impl Fn(&mut Draft<'_>, &T, &[usize]) -> usize,
    gate: impl Fn(&mut Draft<'_>, &T, usize) -> usize,
) -> Vec<usize> {
    let mut gates = before;
    for turn in turns {
        let changed = change(draft, turn, &gates);
        gates = vec![gate(draft, turn, changed)];
    }
    gates
}
