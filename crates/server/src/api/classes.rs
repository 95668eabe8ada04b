//! Equipment classes: what they say and who follows them, what a change comes to before it is made, and classes made of equipment.

use super::plant::{EditsBody, seen, wishes};
use crate::{
    app::App,
    auth::Person,
    body::{Json, large},
    problem::Problem,
};
use actix_web::{
    HttpRequest, get,
    http::StatusCode,
    post,
    web::{Data, Path, Payload, block},
};
use havrel_core::{
    access::Action,
    plant::{
        Kind, Own, Plant,
        class::{self, formulas_of, messages_of},
        edit::{self, Problem as EditProblem},
        instances::{
            self,
            difference::{Difference, Line},
        },
        layers, secret,
    },
};
use havrel_db::config::By;
use havrel_link::Kinds;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json_;
use std::{
    collections::{BTreeMap, BTreeSet, HashMap, HashSet},
    sync::Arc,
};
use utoipa::ToSchema;
use uuid::Uuid;

/// Most examples that are named where many are alike.
const MOST_EXAMPLES: usize = 20;
/// Most lines of a difference that are shown.
const MOST_LINES: usize = 500;
/// Most instances of a class that are listed.
const MOST_INSTANCES: usize = 2_000;

/// A class in short.
#[derive(Serialize, ToSchema)]
pub struct ClassRow {
    pub id: Uuid,
    pub name: String,
    pub note: String,
    /// The class that it extends.
    pub extends: Option<Uuid>,
    pub properties: usize,
    pub parts: usize,
    /// How many places are of it; those that are parts of others among them.
    pub instances: usize,
}

/// The classes of the plant.
#[derive(Serialize, ToSchema)]
pub struct ClassList {
    pub revision: i64,
    pub classes: Vec<ClassRow>,
}

/// The equipment classes, in their order.
#[utoipa::path(responses((status = 200, body = ClassList)))]
#[get("/api/classes")]
pub async fn classes(app: Data<App>, person: Person) -> Result<Json<ClassList>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let mut instances: HashMap<Uuid, usize> = HashMap::new();
    plant.places.values().filter_map(|p| p.set.class).for_each(|class| *instances.entry(class).or_default() += 1);
    let mut items: Vec<_> = plant.classes.values().collect();
    items.sort_by(|a, b| a.set.order.total_cmp(&b.set.order).then_with(|| a.set.name.cmp(&b.set.name)));
    let row = |item: &Arc<havrel_core::plant::Item<class::Class>>| ClassRow {
        id: item.id,
        name: item.set.name.clone(),
        note: item.set.note.clone(),
        extends: item.set.extends,
        properties: item.set.properties.len(),
        parts: item.set.parts.len(),
        instances: instances.get(&item.id).copied().unwrap_or(0),
    };
    Ok(Json(ClassList { revision: plant.revision, classes: items.into_iter().map(row).collect() }))
}

/// A place that is of a class.
#[derive(Serialize, ToSchema)]
pub struct InstanceRow {
    pub id: Uuid,
    pub path: String,
    /// How many settings it says itself.
    pub own: usize,
    /// How many properties and parts it leaves out.
    pub without: usize,
}

/// A class with all that it says.
#[derive(Serialize, ToSchema)]
pub struct ClassView {
    pub revision: i64,
    pub id: Uuid,
    /// Its effective settings, formulas as people read them.
    #[schema(value_type = Object)]
    pub set: Json_,
    /// Of a class that extends another: what it says itself.
    #[schema(value_type = Object)]
    pub own: Json_,
    /// Its instances by path, at most 2,000, and how many there are.
    pub instances: Vec<InstanceRow>,
    pub count: usize,
    /// What else uses it, as the rest of a sentence: “the class “Dryer” has it as a part”.
    pub used: Vec<String>,
}

/// Settings of a class with formulas as people read them; other settings stay as they are.
pub(super) fn shown_class(plant: &Plant, id: Uuid, mut set: Json_) -> Json_ {
    let properties = set.get_mut("properties").and_then(Json_::as_object_mut);
    for property in properties.into_iter().flat_map(|all| all.values_mut()) {
        for (field, message) in messages_of(property) {
            *message = plant.class_message_shown(id, &field, message).into();
        }
        for (_, text) in formulas_of(property) {
            *text = plant.class_formula_shown(id, text);
        }
    }
    set
}

/// One class.
#[utoipa::path(responses((status = 200, body = ClassView)))]
#[get("/api/classes/{id}")]
pub async fn class_of(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<ClassView>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let id = *id;
    let item = plant.classes.get(&id).ok_or_else(|| Problem::missing("class"))?;
    let places: HashSet<Uuid> = plant.places.values().filter(|p| p.set.class == Some(id)).map(|p| p.id).collect();
    let mut own: HashMap<Uuid, usize> = HashMap::new();
    for tag in plant.tags.values().filter(|t| t.set.property.is_some() && places.contains(&t.set.place)) {
        *own.entry(tag.set.place).or_default() += said(&tag.own).count();
    }
    for rule in plant.rules.values().filter(|r| r.set.class_rule.is_some()) {
        let place = plant.tags.get(&rule.set.tag).map(|t| t.set.place).filter(|place| places.contains(place));
        place.into_iter().for_each(|place| *own.entry(place).or_default() += said(&rule.own).count());
    }
    let row = |id: &Uuid| InstanceRow {
        id: *id,
        path: plant.path(Some(*id)),
        own: own.get(id).copied().unwrap_or(0),
        without: plant.places.get(id).map_or(0, |p| p.set.without.len()),
    };
    let mut instances: Vec<InstanceRow> = places.iter().map(row).collect();
    instances.sort_by(|a, b| a.path.cmp(&b.path));
    instances.truncate(MOST_INSTANCES);
    let relations = app.relations(&plant);
    let used = relations.referrers(id).iter().filter(|r| r.kind == Kind::Class).map(|r| r.words.clone()).collect();
    let set = shown_class(&plant, id, serde_json::to_value(&item.set).unwrap_or_default());
    let own = shown_class(&plant, id, Json_::Object(item.own.clone()));
    Ok(Json(ClassView { revision: plant.revision, id, set, own, instances, count: places.len(), used }))
}

/// The fields that an item of an instance says itself.
pub(super) fn said(own: &Own) -> impl Iterator<Item = (&String, &Json_)> {
    own.iter().filter(|(field, value)| !instances::STANDS.contains(&field.as_str()) && !value.is_null())
}

/// What a field holds, as people read it.
pub(super) fn readable(plant: &Plant, field: &str, value: &Json_) -> String {
    let named = |kind: Kind| {
        let id = value.as_str()?.parse().ok()?;
        Some(plant.title(kind, id)).filter(|title| !title.is_empty())
    };
    let known = match field {
        "connection" => named(Kind::Connection),
        "states" => named(Kind::States),
        "setpoint" => named(Kind::Tag),
        "class" => named(Kind::Class).or_else(|| named(Kind::AlarmClass)),
        "shift_pattern" => named(Kind::ShiftPattern),
        "formula" => value.get("text").and_then(Json_::as_str).map(|text| plant.formula_shown(text)),
        _ => None,
    };
    known.unwrap_or_else(|| match value {
        Json_::Null => String::new(),
        Json_::Bool(on) => if *on { "yes" } else { "no" }.into(),
        Json_::String(text) => text.clone(),
        Json_::Object(all) if layers::is_empty(value) || all.is_empty() => String::new(),
        Json_::Object(all) => {
            let part = |(name, value): (&String, &Json_)| format!("{name} {}", readable(plant, name, value));
            all.iter().filter(|(_, value)| !value.is_null()).map(part).collect::<Vec<_>>().join(", ")
        }
        Json_::Number(number) => number.as_f64().map_or_else(|| number.to_string(), |n| n.to_string()),
        other => secret::masked(other.clone()).to_string(),
    })
}

/// One field on all the items that are alike.
#[derive(Serialize, ToSchema)]
pub struct EffectLine {
    /// `place`, `tag` or `rule`.
    pub kind: &'static str,
    /// “Vessel · Level”, or the path of what belongs to no class.
    pub title: String,
    /// The field; empty where the whole item is made or taken away.
    pub field: String,
    /// What it was and will be, in words; none where it is not the same on all.
    pub before: Option<String>,
    pub after: Option<String>,
    /// How many items change, and some of them by path.
    pub items: usize,
    pub examples: Vec<String>,
    /// How many keep what they say themselves, and some of them.
    pub kept: usize,
    pub kept_examples: Vec<String>,
}

/// What edits come to.
#[derive(Serialize, ToSchema)]
pub struct EffectView {
    /// The first 500 lines, and how many there are.
    pub lines: Vec<EffectLine>,
    pub total: usize,
    /// At how many places something changes.
    pub places: usize,
    pub tags_made: usize,
    pub tags_removed: usize,
    pub alarms_begin: usize,
    pub alarms_end: usize,
    pub recordings_begin: usize,
    pub recordings_end: usize,
}

impl EffectView {
    fn of(old: &Plant, new: &Plant) -> EffectView {
        let difference = Difference::between(old, new);
        let title = |kind: Kind, id: Uuid| {
            let title = new.title(kind, id);
            if title.is_empty() { old.title(kind, id) } else { title }
        };
        let some = |kind: Kind, ids: &[Uuid]| {
            let mut titles: Vec<String> = ids.iter().take(MOST_EXAMPLES).map(|&id| title(kind, id)).collect();
            titles.sort();
            titles
        };
        let line = |line: &Line| EffectLine {
            kind: line.kind.name(),
            title: line.title.clone(),
            field: line.field.clone(),
            before: line.before.as_ref().map(|value| readable(old, &line.field, value)),
            after: line.after.as_ref().map(|value| readable(new, &line.field, value)),
            items: line.items.len(),
            examples: some(line.kind, &line.items),
            kept: line.kept.len(),
            kept_examples: some(line.kind, &line.kept),
        };
        EffectView {
            lines: difference.lines.iter().take(MOST_LINES).map(line).collect(),
            total: difference.lines.len(),
            places: difference.places.len(),
            tags_made: difference.tags_made,
            tags_removed: difference.tags_removed,
            alarms_begin: difference.alarms_begin,
            alarms_end: difference.alarms_end,
            recordings_begin: difference.recordings_begin,
            recordings_end: difference.recordings_end,
        }
    }
}

/// Works on the plant where no other request waits for it.
pub(super) async fn apart<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, Problem> {
    block(work).await.map_err(|_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping."))
}

/// What edits come to, before they are made: which settings change on how many items, which stay because an item says its own.
#[utoipa::path(params(("If-Match" = String, Header, description = "The revision the edits are based on")), request_body = EditsBody,
    responses((status = 200, body = EffectView), (status = 422, body = Problem)))]
#[post("/api/edits/difference")]
pub async fn edits_difference(
    app: Data<App>,
    person: Person,
    request: HttpRequest,
    body: Payload,
) -> Result<Json<EffectView>, Problem> {
    person.may(Action::Configure)?;
    let seen = seen(&app, &request)?;
    let body: EditsBody = large(body).await?;
    let plant = person.plant(&app);
    let edits = wishes(&plant, body.edits, seen)?;
    let worked = apart(move || {
        let (next, _) = edit::apply(&plant, &edits, &Kinds, || 0)?;
        Ok(EffectView::of(&plant, &next))
    });
    Ok(Json(worked.await?.map_err(refused)?))
}

pub(super) fn refused(problems: Vec<EditProblem>) -> Problem {
    havrel_db::config::CommitError::Refused(problems).into()
}

/// A class to be made of equipment.
#[derive(Deserialize, ToSchema)]
pub struct MakeClassBody {
    pub name: String,
    /// The model, and others that are alike.
    pub places: Vec<Uuid>,
    /// Only tell what would come of it.
    #[serde(default, rename = "try")]
    pub only_try: bool,
}

/// What came of a class that was made of equipment, or would.
#[derive(Serialize, ToSchema)]
pub struct ClassMade {
    pub revision: i64,
    pub class: Uuid,
    pub properties: usize,
    /// The names of the parameters that were found in addresses.
    pub parameters: Vec<String>,
    /// How many settings stay each one's own, because they differ.
    pub kept: usize,
}

/// Makes a class of equipment, and the equipment its instances. Nothing of what it does changes.
#[utoipa::path(request_body = MakeClassBody, responses((status = 200, body = ClassMade), (status = 422, body = Problem)))]
#[post("/api/classes/made")]
pub async fn make_class(app: Data<App>, person: Person, body: Json<MakeClassBody>) -> Result<Json<ClassMade>, Problem> {
    let actor = person.may(Action::Configure)?;
    let (body, plant) = (body.into_inner(), person.plant(&app));
    if body.places.len() > 5_000 {
        return Err(Problem::field("places", "Choose at most 5,000 places."));
    }
    let (name, only_try) = (body.name.clone(), body.only_try);
    let worked = apart(move || {
        let made = plant.class_made_of(body.name.trim(), &body.places, Uuid::now_v7);
        made.map(|made| (edit::apply(&plant, &made.edits, &Kinds, || 0).map(|(next, _)| next), made))
    });
    let (tried, made) = worked.await?.map_err(|words| Problem::field("places", words))?;
    let mut next = Arc::new(tried.map_err(refused)?);
    if !only_try {
        let why = format!("Made the class {name} of equipment that was there");
        let by = By { account: Some(actor.account), actor: actor.name.clone(), why, undoes: None };
        next = app.live.commit(&made.edits, &by).await?;
    }
    let class = next.classes.get(&made.class);
    Ok(Json(ClassMade {
        revision: next.revision,
        class: made.class,
        properties: class.map_or(0, |c| c.set.properties.len()),
        parameters: class.iter().flat_map(|c| c.set.parameters.values()).map(|p| p.name.clone()).collect(),
        kept: made.kept,
    }))
}

/// Where two classes differ.
#[derive(Serialize, ToSchema)]
pub struct ClassDifference {
    /// “Level”, “Level · unit”.
    pub title: String,
    /// What each says; empty: nothing.
    pub one: String,
    pub other: String,
}

/// Where two classes differ: property by property of the same name, field by field.
#[utoipa::path(responses((status = 200, body = Vec<ClassDifference>)))]
#[get("/api/classes/{id}/compared/{other}")]
pub async fn compare_classes(
    app: Data<App>,
    person: Person,
    path: Path<(Uuid, Uuid)>,
) -> Result<Json<Vec<ClassDifference>>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let (one, other) = path.into_inner();
    let flat = |id: Uuid| {
        let item = plant.classes.get(&id).ok_or_else(|| Problem::missing("class"))?;
        Ok::<_, Problem>(flattened(&plant, &shown_class(&plant, id, serde_json::to_value(&item.set).unwrap_or_default())))
    };
    let (one, other) = (flat(one)?, flat(other)?);
    let titles: BTreeSet<&String> = one.keys().chain(other.keys()).collect();
    let line = |title: &String| {
        let of = |all: &BTreeMap<String, String>| all.get(title).cloned().unwrap_or_default();
        let (one, other) = (of(&one), of(&other));
        (one != other).then(|| ClassDifference { title: title.clone(), one, other })
    };
    Ok(Json(titles.into_iter().filter_map(line).collect()))
}

/// What a class says, by what people call it.
fn flattened(plant: &Plant, set: &Json_) -> BTreeMap<String, String> {
    let mut flat = BTreeMap::new();
    let mut add = |title: String, value: &Json_, field: &str| {
        let value = readable(plant, field, value);
        if !value.is_empty() {
            flat.insert(title, value);
        }
    };
    let items = |of: &str| set.get(of).and_then(Json_::as_object).into_iter().flat_map(|all| all.values());
    for parameter in items("parameters") {
        let name = parameter.get("name").and_then(Json_::as_str).unwrap_or_default();
        for field in ["kind", "default"] {
            add(format!("{name} · {field}"), &parameter[field], field);
        }
    }
    for property in items("properties") {
        let name = property.pointer("/tag/name").and_then(Json_::as_str).unwrap_or_default().to_owned();
        add(format!("{name} · kind"), &property["kind"], "kind");
        for (field, value) in property["tag"].as_object().into_iter().flatten().filter(|(f, _)| *f != "name" && *f != "order") {
            add(format!("{name} · {field}"), value, field);
        }
        for rule in property["rules"].as_object().into_iter().flat_map(|all| all.values()) {
            let known = rule.get("name").or(rule.get("kind")).and_then(Json_::as_str).unwrap_or_default();
            for (field, value) in rule.as_object().into_iter().flatten().filter(|(f, _)| *f != "name" && *f != "kind") {
                add(format!("{name} · {known} · {field}"), value, field);
            }
        }
    }
    for part in items("parts") {
        let name = part.get("name").and_then(Json_::as_str).unwrap_or_default();
        for field in ["class", "count"] {
            add(format!("{name} · {field}"), &part[field], field);
        }
    }
    flat
}
