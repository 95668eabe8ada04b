//! Taking back: one earlier revision where nothing later touched what it wrote, or everything since a revision.

use super::{Change, Edit, Kind, Op, Own, Plant, edit::inverse};
use serde_json::Value as Json;
use std::collections::{HashMap, HashSet};
use uuid::Uuid;

/// Something an undo would overwrite that a later revision has written.
#[derive(Clone, Debug, PartialEq)]
pub struct Conflict {
    pub kind: Kind,
    pub id: Uuid,
    /// The name a person knows the item by, now or then.
    pub title: String,
    /// Which field; empty where the whole item is meant.
    pub field: String,
    /// What the revision had written.
    pub written: Json,
    /// What stands there now; null where the item or the field is not set.
    pub now: Json,
    /// What the undo would put there; null takes the item or the field away.
    pub back: Json,
    /// Whether it can be put back all the same; not where the item does not exist any more.
    pub can: bool,
}

/// What an undo would do.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Undo {
    pub edits: Vec<Edit>,
    pub conflicts: Vec<Conflict>,
}

/// Plans to take back one revision's changes from the present plant. Fields that still hold what was written go back; the
/// others are conflicts and stay as they are, unless `overrule` names them (item and field).
pub fn undo(plant: &Plant, changes: &[Change], overrule: &HashSet<(Uuid, String)>) -> Undo {
    let mut plan = Undo::default();
    for change in changes.iter().rev() {
        let now = plant.own(change.kind, change.id).map(|(own, ..)| own);
        let op = match (&change.before, &change.after, now) {
            // Made by the revision, and there.
            (None, Some(written), Some(now)) => {
                let touched = now != written;
                let conflict = conflict(plant, change, "", object(written), object(now), Json::Null);
                let delete = Op::Delete { contents: false };
                if touched { decide(&mut plan, conflict, overrule).then_some(delete) } else { Some(delete) }
            }
            // Deleted by the revision, and not there.
            (Some(before), None, None) => Some(Op::Create(before.clone(), Some(change.no))),
            (Some(before), Some(written), Some(now)) => {
                let mut patch = Own::new();
                for (field, back) in before {
                    let wrote = written.get(field).unwrap_or(&Json::Null);
                    let holds = now.get(field).unwrap_or(&Json::Null);
                    if holds == back {
                        continue;
                    }
                    let goes = holds == wrote || {
                        let conflict = conflict(plant, change, field, wrote.clone(), holds.clone(), back.clone());
                        decide(&mut plan, conflict, overrule)
                    };
                    if goes {
                        patch.insert(field.clone(), back.clone());
                    }
                }
                (!patch.is_empty()).then_some(Op::Patch(patch))
            }
            // Changed by the revision, and gone since.
            (Some(before), Some(written), None) => {
                let mut gone = conflict(plant, change, "", object(written), Json::Null, object(before));
                gone.can = false;
                plan.conflicts.push(gone);
                None
            }
            // What it made is gone already, what it deleted is back already.
            _ => None,
        };
        // What somebody changes while this is decided must not be overwritten unseen.
        let seen = Some(plant.revision);
        plan.edits.extend(op.map(|op| Edit { kind: change.kind, id: change.id, op, seen }));
    }
    plan
}

fn object(own: &Own) -> Json {
    Json::Object(own.clone())
}

fn conflict(plant: &Plant, change: &Change, field: &str, written: Json, now: Json, back: Json) -> Conflict {
    let known = plant.title(change.kind, change.id);
    let then = [&change.after, &change.before].into_iter().flatten().find_map(|own| own.get("name")?.as_str());
    let title = if known.is_empty() { then.unwrap_or_default().to_owned() } else { known };
    Conflict { kind: change.kind, id: change.id, title, field: field.into(), written, now, back, can: true }
}

/// Notes a conflict; gives whether it is overruled.
fn decide(plan: &mut Undo, conflict: Conflict, overrule: &HashSet<(Uuid, String)>) -> bool {
    let overruled = overrule.contains(&(conflict.id, conflict.field.clone()));
    plan.conflicts.push(conflict);
    overruled
}

/// The edits that go back to how everything was before these changes, given oldest first.
pub fn go_back(changes: &[Change]) -> Vec<Edit> {
    inverse(&net(changes))
}

/// What several changes, oldest first, come to together: one change for each item that differs in the end.
pub fn net(changes: &[Change]) -> Vec<Change> {
    let mut order: Vec<Uuid> = Vec::new();
    let mut sums: HashMap<Uuid, Change> = HashMap::new();
    for change in changes {
        match sums.get_mut(&change.id) {
            None => {
                order.push(change.id);
                sums.insert(change.id, change.clone());
            }
            Some(sum) => join(sum, change),
        }
    }
    order.into_iter().filter_map(|id| sums.remove(&id).and_then(different)).collect()
}

/// Adds a later change to a sum.
fn join(sum: &mut Change, later: &Change) {
    match (&mut sum.after, &later.before, &later.after) {
        // Changed again.
        (Some(after), Some(was), Some(is)) => {
            if let Some(before) = &mut sum.before {
                for (field, value) in was {
                    before.entry(field.clone()).or_insert_with(|| value.clone());
                }
            }
            after.extend(is.iter().map(|(k, v)| (k.clone(), v.clone())));
        }
        // Deleted, with all it held: what was changed earlier in these changes was different before them.
        (Some(_), Some(all), None) => {
            if let Some(before) = &mut sum.before {
                let mut whole = all.clone();
                whole.extend(before.iter().map(|(k, v)| (k.clone(), v.clone())));
                whole.retain(|_, v| !v.is_null());
                *before = whole;
            }
            sum.after = None;
        }
        // Made again after it was deleted: both sides are whole.
        (None, None, Some(all)) => sum.after = Some(all.clone()),
        // Changes that do not follow from each other do not come from the database.
        _ => {}
    }
}

/// Leaves only fields that differ; nothing is left where none does.
fn different(mut sum: Change) -> Option<Change> {
    match (&mut sum.before, &mut sum.after) {
        (None, None) => return None,
        (Some(before), Some(after)) => {
            let fields: HashSet<String> = before.keys().chain(after.keys()).cloned().collect();
            for field in fields {
                let (was, is) = (before.get(&field).cloned().unwrap_or_default(), after.get(&field).cloned().unwrap_or_default());
                if was == is {
                    before.shift_remove(&field);
                    after.shift_remove(&field);
                } else {
                    before.insert(field.clone(), was);
                    after.insert(field, is);
                }
            }
            if before.is_empty() {
                return None;
            }
        }
        (_, Some(own)) | (Some(own), _) => own.retain(|_, v| !v.is_null()),
    }
    Some(sum)
}
