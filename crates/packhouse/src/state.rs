//! The data of the packhouse, and their initial state.

use crate::Server;
use crate::grants::Grants;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::{Mutex, MutexGuard, PoisonError};

/// Shared by all requests.
#[derive(Debug)]
pub(crate) struct Shared {
    pub(crate) server: Server,
    /// Whether only clients with a certificate reach it.
    pub(crate) wants_certificates: bool,
    stock: Mutex<Stock>,
}

#[derive(Debug)]
pub(crate) struct Stock {
    pub(crate) growers: Vec<Grower>,
    pub(crate) lots: BTreeMap<u32, Lot>,
    pub(crate) next_lot: u32,
    pub(crate) tokens: HashSet<String>,
    pub(crate) signed_in: u64,
    /// What the authorization server gave.
    pub(crate) authorization: Grants,
    /// Grading jobs: the lot, and how often somebody asked.
    pub(crate) gradings: Vec<(String, u32)>,
    /// How often a flaky scale was asked, by key.
    pub(crate) flaky: HashMap<String, u32>,
}

#[derive(Clone, Debug, Serialize)]
pub(crate) struct Grower {
    pub(crate) id: &'static str,
    pub(crate) name: &'static str,
    pub(crate) orchard: &'static str,
    pub(crate) varieties: &'static [&'static str],
}

#[derive(Clone, Debug, Serialize)]
pub(crate) struct ColdRoom {
    pub(crate) id: &'static str,
    pub(crate) celsius: f64,
    pub(crate) trays: u32,
    pub(crate) capacity: u32,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum LotState {
    Open,
    Closed,
}

#[derive(Clone, Debug, Serialize)]
pub(crate) struct Lot {
    pub(crate) id: String,
    pub(crate) grower: String,
    pub(crate) variety: String,
    pub(crate) bins: u32,
    pub(crate) state: LotState,
    #[serde(rename = "ref")]
    pub(crate) reference: Option<String>,
    #[serde(skip)]
    pub(crate) weighings: Vec<Weighing>,
    /// Counts the changes: what the ETag is made of.
    #[serde(skip)]
    pub(crate) version: u32,
}

#[derive(Clone, Debug, Serialize)]
pub(crate) struct Weighing {
    pub(crate) tray: String,
    pub(crate) kg: f64,
}

impl Lot {
    pub(crate) fn etag(&self) -> String {
        format!("\"{}-{}\"", self.id, self.version)
    }
}

pub(crate) const COLD_ROOMS: &[ColdRoom] = &[
    ColdRoom { id: "C-1", celsius: 1.5, trays: 412, capacity: 600 },
    ColdRoom { id: "C-2", celsius: 0.5, trays: 88, capacity: 400 },
    ColdRoom { id: "C-3", celsius: 3.0, trays: 0, capacity: 200 },
];

impl Shared {
    pub(crate) fn new(server: Server, wants_certificates: bool) -> Self {
        Self { server, wants_certificates, stock: Mutex::new(Stock::new(server)) }
    }

    pub(crate) fn stock(&self) -> MutexGuard<'_, Stock> {
        self.stock.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Stock {
    fn new(server: Server) -> Self {
        let growers = vec![
            Grower { id: "G-11", name: "Marlow Ridge", orchard: "north slope", varieties: &["gala", "fuji"] },
            Grower { id: "G-12", name: "Tern & Daughters", orchard: "river flat", varieties: &["braeburn"] },
            Grower { id: "G-13", name: "Käthe Olsen", orchard: "old wall", varieties: &["russet", "gala"] },
            Grower { id: "G-14", name: "Pip's Acre", orchard: "hill end", varieties: &["bosc", "comice"] },
        ];
        let first = if server == Server::Local { 2038 } else { 7701 };
        let start = [
            ("G-11", "gala", 24, LotState::Closed),
            ("G-12", "braeburn", 18, LotState::Open),
            ("G-11", "fuji", 30, LotState::Open),
            ("G-13", "russet", 6, LotState::Open),
            ("G-14", "comice", 12, LotState::Closed),
        ];
        let lots: BTreeMap<u32, Lot> = (first..)
            .zip(start)
            .map(|(number, (grower, variety, bins, state))| {
                let lot = Lot {
                    id: format!("L-{number}"),
                    grower: grower.to_owned(),
                    variety: variety.to_owned(),
                    bins,
                    state,
                    reference: None,
                    weighings: Vec::new(),
                    version: 1,
                };
                (number, lot)
            })
            .collect();
        let next_lot = first + lots.len() as u32;
        Self {
            growers,
            lots,
            next_lot,
            tokens: HashSet::new(),
            signed_in: 0,
            authorization: Grants::default(),
            gradings: Vec::new(),
            flaky: HashMap::new(),
        }
    }

    /// The lot's number, if the id is one of a lot that is there.
    pub(crate) fn lot_number(&self, id: &str) -> Option<u32> {
        let number = id.strip_prefix("L-")?.parse().ok()?;
        self.lots.get(&number).filter(|lot| lot.id == id).map(|_| number)
    }

    pub(crate) fn has_grower(&self, id: &str) -> bool {
        self.growers.iter().any(|grower| grower.id == id)
    }
}
