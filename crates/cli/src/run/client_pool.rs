//! The clients of a run. Connections are shared by all; cookies are not.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use yieldtray_engine::ReadyRequest;
use yieldtray_transport::{Client, Jar};

/// One for all, or one a file: in a replay a file has the cookies that its own cells got, and those of
/// the cells it needs. So it does not matter which files went before it, or go beside it.
pub(crate) struct ClientPool {
    base: Arc<Client>,
    each: Option<PerLane>,
}

#[derive(Default)]
struct PerLane {
    round: usize,
    lanes: Vec<Option<Arc<Client>>>,
    /// The cookies as they were after steps that cells of other files rely on.
    after: HashMap<usize, Jar>,
    /// Which of those a file took already.
    taken: HashSet<(usize, usize)>,
}

impl ClientPool {
    /// This client for all.
    pub(crate) fn one(client: Arc<Client>) -> Self {
        Self { base: client, each: None }
    }

    /// One for each file, with the connections of this one.
    pub(crate) fn each(client: Client) -> Self {
        Self { base: Arc::new(client), each: Some(PerLane::default()) }
    }

    /// The one that belongs to no file.
    pub(super) fn base(&self) -> Arc<Client> {
        Arc::clone(&self.base)
    }

    /// The one that sends this request.
    pub(super) fn of(&mut self, ready: &ReadyRequest<'_>) -> Arc<Client> {
        let Some(each) = &mut self.each else { return self.base() };
        if each.round != ready.round {
            *each = PerLane { round: ready.round, ..PerLane::default() };
        }
        if each.lanes.len() <= ready.lane {
            each.lanes.resize(ready.lane + 1, None);
        }
        let client = each.lanes[ready.lane].get_or_insert_with(|| Arc::new(self.base.with_own_cookies()));
        for need in &ready.cookie_sources {
            if let (Some(jar), true) = (each.after.get(need), each.taken.insert((ready.lane, *need))) {
                client.jar().add(jar);
            }
        }
        Arc::clone(client)
    }

    /// Keeps the cookies of a cell that other files need.
    pub(super) fn answered(&mut self, ready: &ReadyRequest<'_>) {
        let Some(each) = self.each.as_mut().filter(|_| ready.needed_elsewhere) else { return };
        if let Some(Some(client)) = each.lanes.get(ready.lane) {
            each.after.insert(ready.step, client.jar().clone());
        }
    }
}
