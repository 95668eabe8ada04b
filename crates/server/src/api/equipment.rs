//! Equipment: what a place has of its class and says itself, many places made at once, and another class for one.

use super::{
    classes::{apart, readable, refused, said},
    plant::{Committed, source_of},
};
use crate::{
    app::App,
    auth::Person,
    body::{Json, large},
    problem::{Problem, Wrong},
};
use actix_web::{
    get,
    http::StatusCode,
    post,
    web::{Data, Path, Payload},
};
use havrel_core::{
    access::Action,
    plant::{
        Edit, Item, Kind, Plant, Tag, class, edit,
        instances::{
            self, Members,
            many::{self, Row, Trouble},
        },
        pattern,
    },
};
use havrel_db::config::By;
use havrel_link::{Kinds, PointPlan};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json_;
use std::{
    collections::{BTreeMap, HashMap, HashSet},
    sync::Arc,
    time::Duration,
};
use tokio::time::timeout;
use utoipa::ToSchema;
use uuid::Uuid;

/// What a parameter is on a piece of equipment.
#[derive(Serialize, ToSchema)]
pub struct ParameterView {
    pub id: Uuid,
    pub name: String,
    /// `number`, `text` or `connection`.
    pub kind: String,
    pub note: String,
    /// What it says itself, and what its class or the equipment above says; null: nothing.
    #[schema(value_type = Object, nullable)]
    pub value: Json_,
    #[schema(value_type = Object, nullable)]
    pub inherited: Json_,
}

/// A setting that equipment says itself, over what its class says.
#[derive(Serialize, ToSchema)]
pub struct OverrideView {
    /// `place`, `tag` or `rule`.
    pub kind: &'static str,
    pub id: Uuid,
    /// What it stands for: “Level”, “Level · high”.
    pub title: String,
    pub field: String,
    /// In words.
    pub own: String,
    pub inherited: String,
}

/// A property or part that equipment has or leaves out.
#[derive(Serialize, ToSchema)]
pub struct MemberView {
    pub id: Uuid,
    pub name: String,
    /// `property` or `part`.
    pub kind: &'static str,
    pub without: bool,
}

/// A place as an instance of its class.
#[derive(Serialize, ToSchema)]
pub struct EquipmentView {
    pub revision: i64,
    pub class: Uuid,
    pub class_name: String,
    /// The path of the equipment that it is a part of; empty where it is none.
    pub part_of: String,
    pub parameters: Vec<ParameterView>,
    pub members: Vec<MemberView>,
    pub overrides: Vec<OverrideView>,
}

/// What a place has of its class, and what it says itself.
#[utoipa::path(responses((status = 200, body = EquipmentView), (status = 404, body = Problem)))]
#[get("/api/places/{id}/equipment")]
pub async fn equipment(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<EquipmentView>, Problem> {
    person.may(Action::See)?;
    let (plant, id) = (person.plant(&app), *id);
    let item = plant.places.get(&id).ok_or_else(|| Problem::missing("place"))?;
    let of = item.set.class.and_then(|class| plant.classes.get(&class));
    let class = of.ok_or_else(|| Problem::new(StatusCode::NOT_FOUND, "This place is of no class."))?;
    let members = Members::of(&plant);
    let below = plant.inherited(Kind::Place, id, &members).unwrap_or_default();
    let own = item.own.get("parameters");
    let mut parameters: Vec<_> = class.set.parameters.iter().collect();
    parameters.sort_by(|a, b| a.1.order.total_cmp(&b.1.order).then_with(|| a.1.name.cmp(&b.1.name)));
    let parameter = |(id, parameter): (&Uuid, &class::Parameter)| {
        let of = |all: Option<&Json_>| all.and_then(|all| all.get(id.to_string())).cloned().filter(|value| !value.is_null());
        ParameterView {
            id: *id,
            name: parameter.name.clone(),
            kind: serde_json::to_value(parameter.kind).ok().and_then(|k| k.as_str().map(String::from)).unwrap_or_default(),
            note: parameter.note.clone(),
            value: of(own).unwrap_or_default(),
            inherited: of(below.get("parameters")).or_else(|| parameter.default.clone()).unwrap_or_default(),
        }
    };
    let without = |id: Uuid| item.set.without.contains(&id);
    let properties = class.set.in_order().into_iter().map(|(id, property)| (id, property.name().to_owned(), "property"));
    let parts = class.set.parts.iter().map(|(&id, part)| (id, part.name.clone(), "part"));
    let all = properties.chain(parts).map(|(id, name, kind)| MemberView { id, name, kind, without: without(id) }).collect();
    let mut overrides = Vec::new();
    let mut add = |kind: Kind, id: Uuid, title: String| {
        let (Some((own, ..)), Some(below)) = (plant.own(kind, id), plant.inherited(kind, id, &members)) else { return };
        let below = instances::plain(kind, &below, own);
        overrides.extend(said(own).map(|(field, value)| OverrideView {
            kind: kind.name(),
            id,
            title: title.clone(),
            field: field.clone(),
            own: readable(&plant, field, value),
            inherited: below.get(field).map_or_else(String::new, |value| readable(&plant, field, value)),
        }));
    };
    for (property, said) in class.set.in_order() {
        let Some(tag) = members.tag(id, property) else { continue };
        add(Kind::Tag, tag, said.name().to_owned());
        for (_, rule) in members.rules_of(tag) {
            let known = plant.rules.get(&rule).map_or("", |rule| rule.set.known_as());
            add(Kind::Rule, rule, format!("{} · {known}", said.name()));
        }
    }
    Ok(Json(EquipmentView {
        revision: plant.revision,
        class: class.id,
        class_name: class.set.name.clone(),
        part_of: item.set.part.map_or_else(String::new, |_| plant.path(item.set.parent)),
        parameters: parameters.into_iter().map(parameter).collect(),
        members: all,
        overrides,
    }))
}

/// A row of equipment to be.
#[derive(Clone, Deserialize, Serialize, ToSchema)]
pub struct EquipmentRow {
    /// The name; in a pattern for many `Vessel {1..8}`, `{A..D}` or `{01..12}`.
    pub name: String,
    /// The path of the place above; empty: at the top.
    #[serde(default)]
    pub place: String,
    pub class: Uuid,
    /// What stands in the columns of the parameters, by their ids; in a pattern also `{100 by 40}`, which counts along.
    #[serde(default)]
    pub cells: BTreeMap<Uuid, String>,
}

impl From<EquipmentRow> for Row {
    fn from(row: EquipmentRow) -> Row {
        Row { name: row.name, place: row.place, class: row.class, cells: row.cells }
    }
}

impl From<Row> for EquipmentRow {
    fn from(row: Row) -> EquipmentRow {
        EquipmentRow { name: row.name, place: row.place, class: row.class, cells: row.cells }
    }
}

fn troubled(troubles: Vec<Trouble>) -> Problem {
    let first = troubles.first().map_or_else(String::new, |t| t.message.clone());
    let mut problem = Problem::new(StatusCode::UNPROCESSABLE_ENTITY, first);
    let wrong = |t: Trouble| Wrong { edit: t.row, field: t.column, message: t.message, now: None };
    problem.problems = troubles.into_iter().take(1_000).map(wrong).collect();
    problem
}

/// The rows that a row of patterns comes to.
#[utoipa::path(request_body = EquipmentRow, responses((status = 200, body = Vec<EquipmentRow>), (status = 422, body = Problem)))]
#[post("/api/equipment/rows")]
pub async fn equipment_rows(person: Person, body: Json<EquipmentRow>) -> Result<Json<Vec<EquipmentRow>>, Problem> {
    person.may(Action::Configure)?;
    let rows = many::rows(&body.into_inner().into()).map_err(troubled)?;
    Ok(Json(rows.into_iter().map(EquipmentRow::from).collect()))
}

/// Equipment to be made.
#[derive(Deserialize, ToSchema)]
pub struct EquipmentBody {
    pub rows: Vec<EquipmentRow>,
    /// Only tell what would come of it.
    #[serde(default, rename = "try")]
    pub only_try: bool,
}

/// A tag that would be made.
#[derive(Serialize, ToSchema)]
pub struct TagToBe {
    pub path: String,
    /// Where it is read; empty where it is not bound.
    pub source: String,
    pub unit: String,
    /// What stands there now, where that was asked and answers, and why it does not.
    pub now: String,
}

/// What came of equipment to be made, or would.
#[derive(Serialize, ToSchema)]
pub struct EquipmentMade {
    /// The revision that holds it; where it was only tried, the one it was tried on.
    pub revision: i64,
    pub places: usize,
    pub tags: usize,
    pub rules: usize,
    /// The first 200 tags.
    pub shown: Vec<TagToBe>,
    /// How many of the tags have no source yet.
    pub unbound: usize,
}

/// Makes equipment of classes, a row each, as one revision; or tells what would come of it.
#[utoipa::path(request_body = EquipmentBody, responses((status = 200, body = EquipmentMade), (status = 422, body = Problem)))]
#[post("/api/equipment")]
pub async fn make_equipment(app: Data<App>, person: Person, body: Payload) -> Result<Json<EquipmentMade>, Problem> {
    let actor = person.may(Action::Configure)?;
    let body: EquipmentBody = large(body).await?;
    if body.rows.is_empty() || body.rows.len() > pattern::MOST {
        return Err(Problem::field("rows", "Enter 1 to 5,000 rows."));
    }
    let rows: Vec<Row> = body.rows.into_iter().map(Row::from).collect();
    let plant = person.plant(&app);
    let edits = plant.equipment(&rows, Uuid::now_v7).map_err(troubled)?;
    if !body.only_try {
        let of: HashSet<&str> = rows.iter().filter_map(|r| Some(plant.classes.get(&r.class)?.set.name.as_str())).collect();
        let of = if of.len() == 1 { of.into_iter().next().unwrap_or_default() } else { "several classes" };
        let why = match rows.as_slice() {
            [row] => format!("Created “{}”, an instance of {of}", row.name),
            all => format!("Created {} instances of {of}", all.len()),
        };
        let by = By { account: Some(actor.account), actor: actor.name.clone(), why, undoes: None };
        let next = app.live.commit(&edits, &by).await?;
        return Ok(Json(made(&plant, &next)));
    }
    let tried = apart(move || {
        let (next, _) = edit::apply(&plant, &edits, &Kinds, || 0)?;
        let read = first_points(&plant, &next);
        Ok((EquipmentMade { revision: plant.revision, ..made(&plant, &next) }, next, read))
    });
    let (mut told, next, read) = tried.await?.map_err(refused)?;
    let now = timeout(LONGEST_READ, answers(&app, &next, read)).await.unwrap_or_default();
    for tag in &mut told.shown {
        tag.now = now.get(&tag.path).cloned().unwrap_or_default();
    }
    Ok(Json(told))
}

/// The preview reads at most this many tags, and waits at most this long for their values.
const MOST_READ: usize = 40;
const LONGEST_READ: Duration = Duration::from_secs(3);

/// Tags that one plant has and the other had not, in the order in which they are shown.
fn made_tags<'a>(old: &Plant, new: &'a Plant) -> Vec<&'a Arc<Item<Tag>>> {
    let mut tags: Vec<_> = new.tags.values().filter(|tag| !old.tags.contains_key(&tag.id)).collect();
    tags.sort_by_cached_key(|tag| (new.path(Some(tag.set.place)), tag.set.order.to_bits(), tag.set.name.clone()));
    tags
}

/// The addresses of the first new tags, by connection.
fn first_points(old: &Plant, new: &Plant) -> HashMap<Uuid, Vec<(Uuid, PointPlan)>> {
    let mut read: HashMap<Uuid, Vec<(Uuid, PointPlan)>> = HashMap::new();
    for tag in made_tags(old, new).into_iter().take(MOST_READ) {
        let Some(connection) = tag.set.connection.and_then(|id| new.connections.get(&id)) else { continue };
        if let Ok(source) = new.source(&connection.set, &tag.set) {
            let point = PointPlan { tag: 0, point: source.point.into_owned(), scaling: source.scaling, group: None };
            read.entry(connection.id).or_default().push((tag.id, point));
        }
    }
    read
}

/// What stands there now, by the path of the tag.
async fn answers(app: &App, plant: &Plant, read: HashMap<Uuid, Vec<(Uuid, PointPlan)>>) -> HashMap<String, String> {
    let mut now = HashMap::new();
    for (connection, points) in read {
        let (tags, points): (Vec<Uuid>, Vec<PointPlan>) = points.into_iter().unzip();
        let Ok(values) = app.live.read(connection, points).await else { continue };
        for (tag, value) in tags.iter().filter_map(|id| plant.tags.get(id)).zip(values) {
            let words = value.scaled.map_or(value.words, |scaled| plant.print(&tag.set, &scaled));
            now.insert(plant.tag_path(&tag.set), words);
        }
    }
    now
}

/// What one plant has and the other had not.
fn made(old: &Plant, new: &Plant) -> EquipmentMade {
    let mut tags = made_tags(old, new);
    let unbound = tags.iter().filter(|t| t.set.connection.is_none() && t.set.formula.is_none()).count();
    let count = tags.len();
    tags.truncate(200);
    let shown = tags.into_iter().map(|tag| TagToBe {
        path: new.tag_path(&tag.set),
        source: source_of(new, tag.id),
        unit: tag.set.unit.clone(),
        now: String::new(),
    });
    EquipmentMade {
        revision: new.revision,
        places: new.places.len().saturating_sub(old.places.len()),
        tags: count,
        rules: new.rules.len().saturating_sub(old.rules.len()),
        shown: shown.collect(),
        unbound,
    }
}

/// Equipment that is like another piece.
#[derive(Serialize, ToSchema)]
pub struct AlikeView {
    pub place: Uuid,
    pub path: String,
    /// Tags of the same name; tags that it has not; tags that only it has.
    pub shared: usize,
    pub missing: usize,
    pub more: usize,
}

/// Equipment without a class that is like a place, the likest first.
#[utoipa::path(responses((status = 200, body = Vec<AlikeView>)))]
#[get("/api/places/{id}/alike")]
pub async fn alike(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<Vec<AlikeView>>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let view = |a: instances::made::Alike| AlikeView {
        place: a.place,
        path: plant.path(Some(a.place)),
        shared: a.shared,
        missing: a.missing,
        more: a.more,
    };
    Ok(Json(plant.alike(*id).into_iter().take(500).map(view).collect()))
}

/// Which property of another class one is taken for.
#[derive(Clone, Deserialize, Serialize, ToSchema)]
pub struct TakenFor {
    pub property: Uuid,
    #[serde(default)]
    pub name: String,
    /// None: its tag goes.
    pub to: Option<Uuid>,
}

/// Which properties of another class those of a place would be taken for.
#[utoipa::path(responses((status = 200, body = Vec<TakenFor>)))]
#[get("/api/places/{id}/class/{class}")]
pub async fn taken_for(app: Data<App>, person: Person, path: Path<(Uuid, Uuid)>) -> Result<Json<Vec<TakenFor>>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let (place, class) = path.into_inner();
    let taken = plant.taken_for(place, class).into_iter();
    Ok(Json(taken.map(|t| TakenFor { property: t.property, name: t.name, to: t.to }).collect()))
}

/// The class that a place is to have.
#[derive(Deserialize, ToSchema)]
pub struct SetClassBody {
    /// None: it leaves its class, and keeps all that the class said.
    pub class: Option<Uuid>,
    /// Which properties go on as which; the tags of others go.
    #[serde(default)]
    pub taken: Vec<TakenFor>,
}

/// Gives a place another class, or takes it out of its class.
#[utoipa::path(request_body = SetClassBody, responses((status = 200, body = Committed), (status = 422, body = Problem)))]
#[post("/api/places/{id}/class")]
pub async fn set_class(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    body: Json<SetClassBody>,
) -> Result<Json<Committed>, Problem> {
    let actor = person.may(Action::Configure)?;
    let plant = person.plant(&app);
    let taken: HashMap<Uuid, Uuid> = body.taken.iter().filter_map(|t| Some((t.property, t.to?))).collect();
    let path = plant.path(Some(*id));
    let (edits, why) = match body.class {
        Some(class) => {
            let name = plant.title(Kind::Class, class);
            (plant.with_class(*id, class, &taken), format!("{path} is of the class {name} now"))
        }
        None => (plant.without_class(*id), format!("{path} left its class")),
    };
    let edits: Vec<Edit> = edits.map_err(|words| Problem::field("class", words))?;
    let by = By { account: Some(actor.account), actor: actor.name.clone(), why, undoes: None };
    let next = app.live.commit(&edits, &by).await?;
    Ok(Json(Committed { revision: next.revision }))
}
