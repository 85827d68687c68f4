//! What may be disrupted at once (rule S2).

use std::collections::BTreeSet;

use super::step::Step;
use crate::holdings::Part;

/// What a step's begin is held against.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Class {
    /// It interrupts nothing.
    Quiet,
    /// It interrupts a node.
    Node,
    /// It interrupts what all depend on.
    All,
}

impl Class {
    pub(super) fn of(step: &Step) -> Self {
        if step.disrupts.iter().any(|part| *part != Part::Nodes) {
            Self::All
        } else if step.disrupts.is_empty() {
            Self::Quiet
        } else {
            Self::Node
        }
    }
}

/// Two budgets, asked at every begin with what is disrupted at that moment: of what all depend on one host at a
/// time, of nodes first one and then a share. What was disrupted counts until a gate after it has held.
#[derive(Clone, Debug)]
pub(super) struct Budget {
    all: BTreeSet<usize>,
    nodes: BTreeSet<usize>,
    nodes_at_once: usize,
    /// The first node that was disrupted is back: what it was changed to works.
    proven: bool,
    /// A node did not come back: what it was changed to may be wrong, and no other takes it.
    lost: bool,
}

impl Budget {
    pub(super) fn new(nodes_at_once: usize) -> Self {
        let (all, nodes) = (BTreeSet::new(), BTreeSet::new());
        Self { all, nodes, nodes_at_once: nodes_at_once.max(1), proven: false, lost: false }
    }

    /// Whether a step of this class may begin now.
    pub(super) fn admits(&self, class: Class) -> bool {
        match class {
            Class::Quiet => true,
            Class::Node => self.nodes.len() < if self.proven { self.nodes_at_once } else { 1 },
            Class::All => self.all.is_empty(),
        }
    }

    /// Whether no other node is disrupted in this run.
    pub(super) fn is_over(&self, class: Class) -> bool {
        class == Class::Node && self.lost
    }

    pub(super) fn begun(&mut self, step: usize, class: Class) {
        match class {
            Class::Quiet => {}
            Class::Node => {
                self.nodes.insert(step);
            }
            Class::All => {
                self.all.insert(step);
            }
        }
    }

    /// A gate after these steps held: what they disrupted is back.
    pub(super) fn back(&mut self, needs: &[usize]) {
        for need in needs {
            self.all.remove(need);
            self.proven |= self.nodes.remove(need);
        }
    }

    /// A step failed: itself a disruption, or a gate after those. Says whether a node was lost by it.
    pub(super) fn failed(&mut self, step: usize, needs: &[usize]) -> bool {
        let before = self.lost;
        let lost = std::iter::once(&step).chain(needs).any(|one| self.nodes.contains(one));
        self.lost |= lost;
        self.lost != before
    }
}
