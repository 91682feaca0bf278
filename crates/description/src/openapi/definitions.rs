//! Schemas that others refer to, each written once under a name of its own.

use crate::documents::{Documents, Node};
use crate::index::IndexWriter;
use crate::schema::{References, SchemaWriter};
use rustc_hash::{FxHashMap, FxHashSet};
use std::cell::RefCell;
use yieldtray_source::names::first_free;

/// The schemas that were referred to so far.
pub(super) struct Definitions<'d> {
    documents: &'d Documents,
    state: RefCell<State<'d>>,
}

#[derive(Default)]
struct State<'d> {
    by_place: FxHashMap<(usize, String), String>,
    names: FxHashSet<String>,
    unwritten: Vec<(String, Node<'d>)>,
}

impl<'d> Definitions<'d> {
    pub(super) fn new(documents: &'d Documents) -> Self {
        Self { documents, state: RefCell::default() }
    }

    /// Writes those that were referred to, and those that they refer to.
    pub(super) fn write(&self, index: &mut IndexWriter, is_v30: bool) {
        loop {
            let next = self.state.borrow_mut().unwritten.pop();
            let Some((name, node)) = next else { break };
            index.put(&format!("definition:{name}"), &SchemaWriter::new(self, is_v30, node));
        }
        let mut names: Vec<String> = self.state.borrow().names.iter().cloned().collect();
        names.sort_unstable();
        index.put("definitions", &names);
    }
}

impl References for Definitions<'_> {
    fn target(&self, document: usize, reference: &str) -> Option<String> {
        let (node, place) = self.documents.find(document, reference)?;
        let mut state = self.state.borrow_mut();
        if let Some(known) = state.by_place.get(&place) {
            return Some(format!("#/$defs/{known}"));
        }
        let last = place.1.rsplit('/').next().unwrap_or_default();
        let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
        let name: String = last.chars().map(|c| if fits(c) { c } else { '-' }).collect();
        let name = first_free(if name.is_empty() { "schema" } else { &name }, "-", |name| !state.names.contains(name));
        state.names.insert(name.clone());
        state.by_place.insert(place, name.clone());
        state.unwritten.push((name.clone(), node));
        Some(format!("#/$defs/{name}"))
    }
}
