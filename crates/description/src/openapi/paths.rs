//! The paths of a description as a tree, a level of which is read at a time.

use crate::index::IndexWriter;
use crate::model::{Level, OperationSummary, Place};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Segments that a path may have.
pub(crate) const MAX_SEGMENTS: usize = 100;

/// What is at a path, for finding the operation of a request.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct PathNode {
    /// The methods at this path.
    #[serde(default, rename = "m", skip_serializing_if = "Vec::is_empty")]
    pub(crate) methods: Vec<String>,
    /// The segments with parameters that may follow.
    #[serde(default, rename = "p", skip_serializing_if = "Vec::is_empty")]
    pub(crate) parameters: Vec<String>,
}

/// A path and what is below it.
#[derive(Debug, Default)]
pub(super) struct PathTree {
    operations: Vec<OperationSummary>,
    children: BTreeMap<String, PathTree>,
}

impl PathTree {
    /// Adds an operation; `false` if its path has too many segments.
    pub(super) fn add(&mut self, operation: OperationSummary) -> bool {
        let path = operation.path.clone();
        if path.matches('/').count() > MAX_SEGMENTS {
            return false;
        }
        let mut node = self;
        for segment in path.split('/').filter(|segment| !segment.is_empty()) {
            node = node.children.entry(segment.to_owned()).or_default();
        }
        node.operations.push(operation);
        true
    }

    /// Writes a record for each level, and one for each path.
    pub(super) fn write(&self, index: &mut IndexWriter) {
        let mut open = vec![(String::new(), self)];
        while let Some((path, node)) = open.pop() {
            let places = node.children.iter().map(|(segment, child)| child.place(format!("{path}/{segment}")));
            let level = Level { operations: node.operations.clone(), places: places.collect() };
            index.put(&format!("level:{path}"), &level);
            let methods = node.operations.iter().map(|operation| operation.method.clone()).collect();
            let parameters = node.children.keys().filter(|segment| segment.contains('{')).cloned().collect();
            index.put(&format!("path:{path}"), &PathNode { methods, parameters });
            open.extend(node.children.iter().map(|(segment, child)| (format!("{path}/{segment}"), child)));
        }
    }

    /// This path as a place; one without operations of its own stands for the only one below it.
    fn place(&self, path: String) -> Place {
        let (mut path, mut node) = (path, self);
        while node.operations.is_empty()
            && node.children.len() == 1
            && let Some((segment, child)) = node.children.first_key_value()
        {
            path = format!("{path}/{segment}");
            node = child;
        }
        Place {
            name: path,
            kind: "path".to_owned(),
            summary: None,
            operations: node.operations.clone(),
            count: node.count(),
            deprecated: false,
        }
    }

    fn count(&self) -> usize {
        let (mut count, mut open) = (0, vec![self]);
        while let Some(node) = open.pop() {
            count += node.operations.len();
            open.extend(node.children.values());
        }
        count
    }
}
