//! Lists of outputs that were carried out, to be used again: a change that touches ten feeds makes ten deltas, and
//! allocating and freeing their lists would take a good part of the time that working them out does.

use std::sync::Arc;

use super::io::Output;
use crate::feed::Change;

/// Outputs in a list that is used again; one with room for more is freed.
const MAX_OUTPUTS: usize = 1_024;

/// Lists of changes that are used again.
const MAX_LISTS: usize = 64;

/// Changes in a list that is used again; room for more is freed.
const MAX_CHANGES: usize = 16;

/// Memory that is free to be used.
#[derive(Debug, Default)]
pub(super) struct Recycled {
    outputs: Vec<Output>,
    changes: Vec<Vec<Change>>,
}

impl Recycled {
    /// An empty list of outputs.
    pub(super) fn outputs(&mut self) -> Vec<Output> {
        std::mem::take(&mut self.outputs)
    }

    /// An empty list of changes.
    pub(super) fn changes(&mut self) -> Vec<Change> {
        self.changes.pop().unwrap_or_default()
    }

    /// Takes back a list of changes that was not needed.
    pub(super) fn put_changes(&mut self, mut changes: Vec<Change>) {
        changes.clear();
        if self.changes.len() < MAX_LISTS && changes.capacity() <= MAX_CHANGES {
            self.changes.push(changes);
        }
    }

    /// Takes back outputs that were carried out. Deltas that are still shared are left alone.
    pub(super) fn put(&mut self, mut outputs: Vec<Output>) {
        for output in outputs.drain(..) {
            let Output::Delta(delta, _) = output else { continue };
            if let Some(delta) = Arc::into_inner(delta) {
                self.put_changes(delta.changes);
            }
        }
        if (self.outputs.capacity()..=MAX_OUTPUTS).contains(&outputs.capacity()) {
            self.outputs = outputs;
        }
    }
}
