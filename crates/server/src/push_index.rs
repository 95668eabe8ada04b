//! The tags that other programs can push to, for one revision.

use havrel_core::{
    TagNo,
    plant::{Plant, resolve},
};
use havrel_link::plain::{Holds, PUSH, PushPoint};
use std::collections::HashMap;
use uuid::Uuid;

/// Where pushed values go.
pub(crate) struct Target {
    pub no: TagNo,
    pub connection: Uuid,
    pub place: Uuid,
    pub holds: Holds,
    pub enabled: bool,
    pub in_service: bool,
}

/// The tags that can be pushed to, for one revision.
pub(crate) struct Index {
    pub revision: i64,
    pub targets: Vec<Target>,
    pub by_path: HashMap<String, usize>,
    pub by_id: HashMap<Uuid, usize>,
    pub by_no: HashMap<TagNo, usize>,
}

impl Index {
    pub fn of(plant: &Plant) -> Index {
        let mut index = Index {
            revision: plant.revision,
            targets: Vec::new(),
            by_path: HashMap::new(),
            by_id: HashMap::new(),
            by_no: HashMap::new(),
        };
        let idle = plant.idle_places();
        for tag in plant.tags.values() {
            let Some(connection) = tag.set.connection.and_then(|id| plant.connections.get(&id)) else { continue };
            if connection.set.kind != PUSH {
                continue;
            }
            let at = index.targets.len();
            let holds = resolve::<PushPoint>(None, &tag.set.point).unwrap_or_default().holds;
            let (no, place, enabled) = (tag.no, tag.set.place, connection.set.enabled);
            let in_service = !idle.contains(&place);
            index.targets.push(Target { no, connection: connection.id, place, holds, enabled, in_service });
            index.by_path.insert(plant.tag_path(&tag.set), at);
            index.by_id.insert(tag.id, at);
            index.by_no.insert(tag.no, at);
        }
        index
    }
}
