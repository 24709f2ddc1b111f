//! Who is connected to a port: so many in all, and so many from one address.

use choir_host::lock;
use std::{
    collections::HashMap,
    net::IpAddr,
    sync::{Arc, Mutex},
};

/// Counts the connections of a port.
#[derive(Debug)]
pub(crate) struct Callers {
    most: usize,
    from_one: usize,
    now: Mutex<HashMap<IpAddr, usize>>,
}

/// One that was let in, until it is dropped.
#[derive(Debug)]
pub(crate) struct Admitted {
    callers: Arc<Callers>,
    from: IpAddr,
}

impl Callers {
    /// At most so many, and so many from one address.
    pub fn new(most: usize, from_one: usize) -> Arc<Self> {
        Arc::new(Self { most, from_one, now: Mutex::default() })
    }

    /// Lets one in; none where there are too many.
    pub fn admit(self: &Arc<Self>, from: IpAddr) -> Option<Admitted> {
        let mut now = lock(&self.now);
        let fits = now.values().sum::<usize>() < self.most && now.get(&from).copied().unwrap_or(0) < self.from_one;
        if !fits {
            return None;
        }
        *now.entry(from).or_default() += 1;
        Some(Admitted { callers: self.clone(), from })
    }
}

impl Drop for Admitted {
    fn drop(&mut self) {
        let mut now = lock(&self.callers.now);
        if let Some(n) = now.get_mut(&self.from) {
            *n -= 1;
            if *n == 0 {
                now.remove(&self.from);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_address_cannot_take_all_places_and_each_is_given_back() {
        let callers = Callers::new(5, 3);
        let (a, b): (IpAddr, IpAddr) = ([127, 0, 0, 1].into(), [127, 0, 0, 2].into());
        let mut held: Vec<_> = (0..3).filter_map(|_| callers.admit(a)).collect();
        assert!(held.len() == 3 && callers.admit(a).is_none());
        held.extend(callers.admit(b));
        held.extend(callers.admit(b));
        assert!(held.len() == 5 && callers.admit(b).is_none(), "all places are taken");
        held.remove(0);
        held.extend(callers.admit(a));
        assert_eq!(held.len(), 5);
        held.clear();
        assert!(lock(&callers.now).is_empty());
    }
}
