//! Shards: a plan divided among several machines.

use super::plan::{Plan, Step};
use crate::{CellId, Workspace};
use rustc_hash::{FxHashMap, FxHashSet};
use sha2::{Digest, Sha256};
use yieldtray_source::SourceId;

impl Plan {
    /// Shard `own` of `all` (from 1): whole files, with every file that they rely on. Files whose sequences play each
    /// other's cells stay together. A file is in the shard that its path determines, however many others there are; a
    /// file that cells of several shards need is in each of those. `chosen` are the cells the plan was made for.
    #[must_use]
    pub fn shard(self, workspace: &Workspace, chosen: &[CellId], own: u32, all: u32) -> Self {
        let groups = FileGroups::of(&self);
        let chosen: FxHashSet<SourceId> = chosen.iter().map(|cell| cell.source).collect();
        let mut needed_by: FxHashMap<SourceId, Vec<SourceId>> = FxHashMap::default();
        let mut names: FxHashMap<SourceId, String> = FxHashMap::default();
        for step in &self.steps {
            let group = groups.of_file(step.cell.source);
            let foreign = step.needs.iter().map(|need| groups.of_file(need.source)).filter(|need| *need != group);
            needed_by.entry(group).or_default().extend(foreign);
            if chosen.contains(&step.cell.source) {
                let path = workspace.shown_path(step.cell.source);
                let name = names.entry(group).or_insert_with(|| path.clone());
                if path < *name {
                    *name = path;
                }
            }
        }
        let mut taken: FxHashSet<SourceId> = FxHashSet::default();
        let mut open: Vec<SourceId> =
            names.iter().filter(|(_, name)| shard_of(name, all) == own).map(|(group, _)| *group).collect();
        while let Some(group) = open.pop() {
            if taken.insert(group) {
                open.extend(needed_by.get(&group).into_iter().flatten());
            }
        }
        let steps = self.steps.into_iter().enumerate();
        let steps = steps.filter(|(_, step)| taken.contains(&groups.of_file(step.cell.source)));
        Self { steps: steps.map(|(place, step)| Step { place: Some(place), ..step }).collect() }
    }
}

/// The shard of a file.
fn shard_of(path: &str, all: u32) -> u32 {
    let digest = Sha256::digest(path);
    let number = digest.iter().take(8).fold(0u64, |number, byte| number << 8 | u64::from(*byte));
    (number % u64::from(all.max(1))) as u32 + 1
}

/// Files whose sequences play each other's cells: these are worked on together.
#[derive(Default)]
pub struct FileGroups {
    /// A file and the earlier one it belongs to.
    joined: FxHashMap<SourceId, SourceId>,
}

impl FileGroups {
    /// The groups of a plan.
    pub fn of(plan: &Plan) -> Self {
        let mut groups = Self::default();
        for step in &plan.steps {
            let Some(played) = step.played else { continue };
            let (own, by) = (groups.of_file(step.cell.source), groups.of_file(played.sequence.source));
            if own != by {
                groups.joined.insert(own.max(by), own.min(by));
            }
        }
        groups
    }

    /// The file that the group of a file is known by.
    pub fn of_file(&self, mut file: SourceId) -> SourceId {
        while let Some(other) = self.joined.get(&file) {
            file = *other;
        }
        file
    }
}
