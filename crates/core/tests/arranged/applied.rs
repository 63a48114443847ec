//! What a client makes of a delta.

use std::collections::{BTreeMap, BTreeSet};

use gossip_core::feed::Change;
use gossip_core::plan::{EffectivePlan, VisibleRow};
use gossip_core::schema::Key;

/// As the protocol says: all that left or has a place is taken out, then what has a place is put in, the foremost first.
pub fn apply(
    rows: &mut Vec<(Key, VisibleRow)>,
    changes: &[Change],
    plan: &EffectivePlan,
    paced: bool,
) -> Result<(), String> {
    let mut placed = BTreeMap::new();
    let mut keys = BTreeSet::new();
    for change in changes {
        if !keys.insert(change.key().clone()) {
            return Err(format!("{:?} twice in one delta", change.key()));
        }
        let known = rows.iter().position(|(key, _)| key == change.key());
        if let Some(was) = change.was()
            && known.is_none_or(|at| !plan.shown(was).eq(plan.shown(&rows[at].1)))
        {
            return Err(format!("{change:?} is not what was"));
        }
        match (change, known) {
            (Change::Remove { key, .. }, None) => return Err(format!("{key:?} goes and was not there")),
            (Change::Replace { key, .. }, None) => return Err(format!("{key:?} changes and was not there")),
            (Change::Add { key, instead, .. }, known) if *instead != known.is_some() => {
                return Err(format!("{key:?} comes and was there, or is replaced and was not"));
            }
            (Change::Remove { .. }, Some(at)) => drop(rows.remove(at)),
            (Change::Add { key, row, place, .. } | Change::Replace { key, row, place, .. }, known) => {
                if let Change::Replace { changed, .. } = change
                    && let Some(at) = known
                {
                    let differs = |p: &usize| plan.project.value(*p, &rows[at].1) != plan.project.value(*p, row);
                    // Between two deltas a value may have changed and changed back.
                    let fits = |p: usize| changed.contains(p) == differs(&p) || paced && changed.contains(p);
                    if !(0..plan.project.len()).all(fits) {
                        return Err(format!("{changed:?} is not what changed"));
                    }
                }
                match (place, known) {
                    (Some(place), known) => {
                        known.map(|at| rows.remove(at));
                        placed.insert(*place, (key.clone(), row.clone()));
                    }
                    (None, Some(at)) => rows[at].1 = row.clone(),
                    (None, None) if plan.is_ordered() => return Err(format!("{key:?} comes without a place")),
                    (None, None) => rows.push((key.clone(), row.clone())),
                }
            }
        }
    }
    for (place, entry) in placed {
        if place > rows.len() {
            return Err(format!("place {place} behind the end"));
        }
        rows.insert(place, entry);
    }
    Ok(())
}
