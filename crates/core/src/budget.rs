//! What subscriptions may cost: bytes of memory, and the number of condition nodes that every change of a table has to be
//! evaluated against because no index applies.
//!
//! Every subscription is charged in full to its connection, its subject, its address and the instance, whether or not it
//! shares a feed with others. Each level has a limit, so that the subscription that exceeds it is refused, and not the
//! next one of somebody else.

use std::collections::HashMap;
use std::sync::Arc;

/// Whom a subscription is charged to. Absent levels are not charged.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Owner {
    /// The connection.
    pub connection: Option<Arc<str>>,
    /// The subject of the token.
    pub subject: Option<Arc<str>>,
    /// The client's address.
    pub address: Option<Arc<str>>,
}

impl Owner {
    /// Whose turn it is charged to in fair scheduling: a subject, else an address.
    pub fn in_turn(&self) -> Option<&Arc<str>> {
        self.subject.as_ref().or(self.address.as_ref())
    }
}

/// A cost.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Cost {
    /// Bytes of memory.
    pub bytes: usize,
    /// Condition nodes evaluated for every change.
    pub scanned: usize,
}

/// The limits.
#[derive(Clone, Copy, Debug)]
pub struct Shares {
    /// To one connection.
    pub connection: Cost,
    /// To one subject.
    pub subject: Cost,
    /// To one address.
    pub address: Cost,
    /// To all.
    pub instance: Cost,
}

impl Default for Shares {
    fn default() -> Shares {
        let cost = |mib: usize, scanned| Cost { bytes: mib << 20, scanned };
        Shares {
            connection: cost(8, 10_000),
            subject: cost(32, 20_000),
            address: cost(64, 50_000),
            instance: cost(1_024, 200_000),
        }
    }
}

/// A level, with its name in error messages.
type Level = (&'static str, Arc<str>);

/// The current charges.
#[derive(Debug, Default)]
pub struct Budget {
    used: HashMap<Level, Cost>,
}

impl Budget {
    fn levels<'a>(owner: Option<&'a Owner>, shares: &'a Shares) -> impl Iterator<Item = (Level, Cost)> + 'a {
        let of = |owner: &'a Owner| {
            let all = [
                ("one connection", &owner.connection, shares.connection),
                ("one subject", &owner.subject, shares.subject),
                ("one address", &owner.address, shares.address),
            ];
            let instance = owner.connection.as_ref().map(|_| (("this instance", Arc::from("")), shares.instance));
            all.into_iter().filter_map(|(name, of, most)| Some(((name, of.clone()?), most))).chain(instance)
        };
        owner.into_iter().flat_map(of)
    }

    /// Charges a cost.
    ///
    /// # Errors
    /// The level whose limit would be exceeded, and by which cost. Nothing is charged then.
    pub fn charge(&mut self, owner: Option<&Owner>, cost: Cost, shares: &Shares) -> Result<(), String> {
        for (level, most) in Budget::levels(owner, shares) {
            let used = self.used.get(&level).copied().unwrap_or_default();
            if used.bytes.saturating_add(cost.bytes) > most.bytes {
                return Err(format!("bytes of the subscriptions of {}, at most {}", level.0, most.bytes));
            }
            if used.scanned.saturating_add(cost.scanned) > most.scanned {
                return Err(format!(
                    "parts of conditions of {} that no index leads to, at most {}: ask for columns to equal values",
                    level.0, most.scanned
                ));
            }
        }
        self.force(owner, cost);
        Ok(())
    }

    /// Charges a cost that can no longer be refused.
    pub fn force(&mut self, owner: Option<&Owner>, cost: Cost) {
        for (level, _) in Budget::levels(owner, &Shares::default()) {
            let used = self.used.entry(level).or_default();
            used.bytes = used.bytes.saturating_add(cost.bytes);
            used.scanned = used.scanned.saturating_add(cost.scanned);
        }
    }

    /// Releases a cost.
    pub fn release(&mut self, owner: Option<&Owner>, cost: Cost) {
        for (level, _) in Budget::levels(owner, &Shares::default()) {
            if let Some(used) = self.used.get_mut(&level) {
                used.bytes = used.bytes.saturating_sub(cost.bytes);
                used.scanned = used.scanned.saturating_sub(cost.scanned);
                if *used == Cost::default() {
                    self.used.remove(&level);
                }
            }
        }
    }

    /// Whether nothing is charged to anybody.
    pub fn is_empty(&self) -> bool {
        self.used.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_share_that_is_used_up_is_named_and_nothing_is_charged() {
        let owner = |c: &str, s: Option<&str>| Owner {
            connection: Some(c.into()),
            subject: s.map(Arc::from),
            address: Some("10.0.0.1".into()),
        };
        let cost = |bytes, scanned| Cost { bytes, scanned };
        let most = |bytes| cost(bytes, 100);
        let shares = Shares { connection: most(10), subject: most(15), address: most(25), instance: most(30) };
        let (mut budget, a) = (Budget::default(), Some("ada"));
        budget.charge(Some(&owner("1", a)), cost(8, 0), &shares).unwrap();
        assert!(budget.charge(Some(&owner("1", a)), cost(3, 0), &shares).unwrap_err().contains("one connection"));
        assert!(budget.charge(Some(&owner("2", a)), cost(8, 0), &shares).unwrap_err().contains("one subject"));
        budget.charge(Some(&owner("2", None)), cost(8, 0), &shares).unwrap();
        budget.charge(Some(&owner("3", Some("bob"))), cost(9, 0), &shares).unwrap();
        assert!(budget.charge(Some(&owner("4", None)), cost(1, 0), &shares).unwrap_err().contains("one address"));
        assert!(budget.charge(Some(&owner("9", None)), cost(0, 101), &shares).unwrap_err().contains("index"));
        budget.release(Some(&owner("1", a)), cost(8, 0));
        budget.charge(Some(&owner("4", None)), cost(1, 0), &shares).unwrap();
        for (who, n) in [(owner("2", None), 8), (owner("3", Some("bob")), 9), (owner("4", None), 1)] {
            budget.release(Some(&who), cost(n, 0));
        }
        assert!(budget.is_empty());
    }
}
