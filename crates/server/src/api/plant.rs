//! The configuration: read items, find them, put edits through the one door.

use super::table::check_why;
use super::{history::read_name, remarks::shows_only_seen};
use crate::{
    app::App,
    auth::Person,
    body::{Json, large},
    problem::Problem,
};
use actix_web::{
    HttpRequest, get,
    http::{StatusCode, header},
    post,
    web::{Data, Path, Payload, Query, block},
};
use havrel_core::{
    access::Action,
    plant::{
        Edit, Item, Kind, Level, Op, Own, Plant, Referrer, Settings, Table, copy, edit,
        instances::{self, Members},
        recorder::Recording,
        secret,
    },
};
use havrel_db::{config::By, remarks::Asks};
use havrel_link::kind;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json_;
use std::{
    cell::OnceCell,
    collections::{BTreeMap, HashMap, HashSet},
    sync::Arc,
};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// An item of the configuration.
#[derive(Serialize, ToSchema)]
pub struct ItemView {
    pub id: Uuid,
    /// The tag's number in the live feed; 0 for other kinds.
    pub no: u32,
    /// The revision that changed it last.
    pub revision: i64,
    /// The name a person knows it by; for places and tags the path.
    pub title: String,
    /// Effective settings.
    #[schema(value_type = Object)]
    pub set: Json_,
    /// Where a tag is read, or where a connection leads, in words; with the address as it goes on the wire.
    pub source: String,
    /// Of a connection: every address under which its device is reached, the first before the spare ones.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub addresses: Vec<String>,
    /// Its formulas with tags by their paths, and its messages with chips in double brackets, by the field that holds each.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(value_type = Object)]
    pub formulas: BTreeMap<&'static str, String>,
    /// Of an item that belongs to an equipment class: what it says itself, over what the class says.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Object)]
    pub own: Option<Own>,
    /// And what the class says.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Object)]
    pub inherited: Option<Own>,
    /// The type of a tag at its source, also where a layout says it: `f32`, `bool`, `text` …; empty where there is none.
    pub holds: String,
    /// Of a tag: its value goes into history by itself, as the tag says or a recorder.
    pub recorded: bool,
}

/// Items with the revision they belong to.
#[derive(Serialize, ToSchema)]
pub struct ItemList {
    /// The plant's revision; send it back as `If-Match` with edits.
    pub revision: i64,
    /// How many there are in all.
    pub total: usize,
    pub items: Vec<ItemView>,
}

/// Which items.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ItemQuery {
    /// Only this item.
    pub only: Option<Uuid>,
    /// Only under this place, at any depth.
    pub under: Option<Uuid>,
    /// Only tags or publications of this connection.
    pub connection: Option<Uuid>,
    /// Only rules of this tag.
    pub tag: Option<Uuid>,
    /// Only items whose title contains this, whatever its case.
    pub text: Option<String>,
    pub offset: Option<usize>,
    /// At most 1,000; the default.
    pub limit: Option<usize>,
}

/// Reads items of a kind, in the order the engineer gave them.
#[utoipa::path(params(ItemQuery), responses((status = 200, body = ItemList)))]
#[get("/api/items/{kind}")]
pub async fn list(
    app: Data<App>,
    person: Person,
    kind: Path<String>,
    query: Query<ItemQuery>,
) -> Result<Json<ItemList>, Problem> {
    person.may_at(Action::See, query.under)?;
    let kind = Kind::from_name(&kind).ok_or_else(|| Problem::missing("kind of item"))?;
    let plant = person.plant(&app);
    let text = query.text.as_deref().unwrap_or_default().to_lowercase();
    let (offset, limit) = (query.offset.unwrap_or(0), query.limit.unwrap_or(1000).min(1000));
    let view = Viewing { plant: &plant, kind, only: query.only, text, offset, limit, recording: app.recording(&plant) };
    let in_place = |place: Uuid| query.under.is_none_or(|top| plant.lies_under(place, top));
    Ok(Json(match kind {
        Kind::Class => view.list(&plant.classes, |_| true, |c| c.set.order),
        Kind::Place => view.list(&plant.places, |p| in_place(p.id), |p| p.set.order),
        Kind::Layout => view.list(&plant.layouts, |_| true, |l| l.set.order),
        Kind::States => view.list(&plant.states, |_| true, |s| s.set.order),
        Kind::Connection => view.list(&plant.connections, |_| true, |c| c.set.order),
        Kind::Tag => view.list(
            &plant.tags,
            |t| in_place(t.set.place) && query.connection.is_none_or(|c| t.set.connection == Some(c)),
            |t| t.set.order,
        ),
        Kind::Rule => view.list(
            &plant.rules,
            |r| {
                let place = plant.tags.get(&r.set.tag).map(|t| t.set.place);
                query.tag.is_none_or(|t| r.set.tag == t) && place.is_some_and(in_place)
            },
            |r| r.set.order(),
        ),
        Kind::Recorder => view.list(&plant.recorders, |_| true, |r| r.set.order),
        Kind::Dispatch => view.list(&plant.dispatches, |_| true, |d| d.set.order),
        Kind::Report => view.list(&plant.reports, |_| true, |r| r.set.order),
        Kind::Guide => view.list(&plant.guides, |_| true, |_| 0.0),
        Kind::ShiftPattern => view.list(&plant.shift_patterns, |_| true, |s| s.set.order),
        Kind::AlarmClass => view.list(&plant.alarm_classes, |_| true, |c| c.set.order),
        Kind::CallPlan => view.list(&plant.call_plans, |_| true, |p| p.set.order),
        Kind::Publication => {
            view.list(&plant.publications, |p| query.connection.is_none_or(|c| p.set.connection == c), |p| p.set.order)
        }
    }))
}

/// What to find.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct FindQuery {
    /// Words, parted by spaces or “/”; all must occur in the path.
    pub text: String,
    /// At most 200; usually 20.
    pub limit: Option<usize>,
    /// Only `place`, `tag`, `connection` or `report`; then no words at all find everything of that kind.
    pub kind: Option<String>,
    /// Only places and tags under this place.
    pub under: Option<Uuid>,
}

/// What a tag is that was found.
#[derive(Serialize, ToSchema)]
pub struct TagHit {
    /// Its number in the live feed.
    pub no: u32,
    pub unit: String,
    pub decimals: u8,
    pub states: Option<Uuid>,
    /// Its type at the source.
    pub holds: String,
    pub record: bool,
    /// It has a source or a formula.
    pub bound: bool,
}

/// Something that was found.
#[derive(Serialize, ToSchema)]
pub struct HitView {
    /// `place`, `tag`, `connection` or `report`.
    pub kind: &'static str,
    pub id: Uuid,
    /// For places and tags the path.
    pub title: String,
    /// Of a tag.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tag: Option<TagHit>,
}

/// What was found, best first.
#[derive(Serialize, ToSchema)]
pub struct HitList {
    /// How many there are in all.
    pub total: usize,
    pub found: Vec<HitView>,
}

/// Finds places, tags, connections and reports by words.
#[utoipa::path(params(FindQuery), responses((status = 200, body = HitList)))]
#[get("/api/find")]
pub async fn find(app: Data<App>, person: Person, query: Query<FindQuery>) -> Result<Json<HitList>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let live = app.live.clone();
    let FindQuery { text, limit, kind, under } = query.into_inner();
    let kind = match kind {
        None => None,
        Some(name) => {
            let words = || Problem::field("kind", "A kind is place, tag, connection or report.");
            Some(Kind::ALL.into_iter().find(|k| k.name() == name).ok_or_else(words)?)
        }
    };
    // The index may have to be made first, which takes too long for a worker that others wait for.
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    let searched = plant.clone();
    let (found, total) = block(move || {
        let inside = |place: Option<Uuid>| under.is_none_or(|top| place.is_some_and(|place| searched.lies_under(place, top)));
        live.finder(&searched).find(&text, limit.unwrap_or(20).min(200), |of, id| {
            let place = match of {
                Kind::Place => Some(id),
                Kind::Tag => searched.tags.get(&id).map(|t| t.set.place),
                _ => None,
            };
            // Without words and without a kind nothing is meant.
            (kind == Some(of) || kind.is_none() && !text.trim().is_empty()) && inside(place)
        })
    })
    .await
    .map_err(stopping)?;
    let recording = app.recording(&plant);
    let hit = |id: Uuid| {
        let tag = plant.tags.get(&id)?;
        let set = &tag.set;
        let (unit, holds) = (set.unit.clone(), plant.type_of(set));
        let bound = set.connection.is_some() || set.formula.is_some();
        Some(TagHit {
            no: tag.no,
            unit,
            decimals: set.decimals,
            states: set.states,
            holds,
            record: recording.by_themselves.contains(&id),
            bound,
        })
    };
    let view = |(kind, id): (Kind, Uuid)| {
        let tag = if kind == Kind::Tag { hit(id) } else { None };
        HitView { kind: kind.name(), id, title: plant.title(kind, id), tag }
    };
    Ok(Json(HitList { total, found: found.into_iter().map(view).collect() }))
}

/// Which items of a kind are shown.
pub(super) struct Viewing<'a> {
    plant: &'a Plant,
    kind: Kind,
    only: Option<Uuid>,
    text: String,
    offset: usize,
    limit: usize,
    recording: Arc<Recording>,
}

impl Viewing<'_> {
    /// All of them.
    pub(super) fn all<'a>(app: &App, plant: &'a Arc<Plant>, kind: Kind) -> Viewing<'a> {
        Viewing { plant, kind, only: None, text: String::new(), offset: 0, limit: usize::MAX, recording: app.recording(plant) }
    }

    /// The wanted items of a table, in order.
    pub(super) fn list<T: Settings>(
        &self,
        table: &Table<T>,
        wanted: impl Fn(&Item<T>) -> bool,
        order: impl Fn(&Item<T>) -> f64,
    ) -> ItemList {
        let chosen = table.values().filter(|item| self.only.is_none_or(|id| item.id == id) && wanted(item));
        let mut found: Vec<_> = chosen
            .map(|item| (self.plant.title(self.kind, item.id), item))
            .filter(|(title, _)| self.text.is_empty() || title.to_lowercase().contains(&self.text))
            .collect();
        found.sort_by(|(a, x), (b, y)| order(x).total_cmp(&order(y)).then_with(|| a.cmp(b)));
        let total = found.len();
        let page = found.into_iter().skip(self.offset).take(self.limit);
        // Only what belongs to a class is asked for what it inherits.
        let members = OnceCell::new();
        let items = page.map(|(title, item)| {
            let stands = |field: &str| item.own.get(field).is_some_and(|value| !value.is_null());
            let layered = ["property", "class_rule", "part"].into_iter().any(stands);
            let inherited = layered
                .then(|| self.plant.inherited(self.kind, item.id, members.get_or_init(|| Members::of(self.plant))))
                .flatten();
            let own = inherited.is_some().then(|| item.own.clone());
            let set = secret::masked(serde_json::to_value(&item.set).unwrap_or_default());
            let (source, holds) = (
                source_of(self.plant, item.id),
                self.plant.tags.get(&item.id).map(|t| self.plant.type_of(&t.set)).unwrap_or_default(),
            );
            let connection = self.plant.connections.get(&item.id).filter(|_| self.kind == Kind::Connection);
            let leads = connection.and_then(|c| Some((kind(&c.set.kind)?, &c.set)));
            let addresses = leads.map(|(kind, set)| kind.addresses(set)).unwrap_or_default();
            let source = leads.map_or(source, |(kind, set)| kind.leads_to(set));
            let shown = |field: &&'static str| Some((*field, self.plant.formula_shown(item.set.formula(field)?.text())));
            let said =
                |field: &&'static str| Some((*field, self.plant.message_text(&item.set, field).filter(|text| !text.is_empty())?));
            let formulas = T::FORMULAS.iter().filter_map(shown).chain(T::MESSAGES.iter().filter_map(said)).collect();
            ItemView {
                id: item.id,
                no: item.no,
                revision: item.revision,
                title,
                set,
                source,
                addresses,
                formulas,
                own,
                inherited,
                holds,
                recorded: self.recording.by_themselves.contains(&item.id),
            }
        });
        ItemList { revision: self.plant.revision, total, items: items.collect() }
    }
}

/// What people call a place where it stands alone: behind the equipment that it stands in, as “Wash tank 2 / Pump”.
pub(super) fn known_as(plant: &Plant, place: Uuid) -> String {
    let Some(mut at) = plant.places.get(&place) else { return String::new() };
    let mut names = vec![at.set.name.as_str()];
    while let Some(above) = at.set.parent.and_then(|id| plant.places.get(&id)).filter(|p| p.set.level > Level::Line) {
        names.push(&above.set.name);
        at = above;
    }
    names.reverse();
    names.join(" / ")
}

/// Where a tag is read, in words; empty where it is unbound.
pub(super) fn source_of(plant: &Plant, tag: Uuid) -> String {
    let words = || {
        let tag = plant.tags.get(&tag)?;
        if let Some(formula) = &tag.set.formula {
            return Some(format!("= {}", plant.formula_shown(formula.text())));
        }
        let connection = plant.connections.get(&tag.set.connection?)?;
        let source = plant.source(&connection.set, &tag.set).ok()?;
        let point = kind(&connection.set.kind)?.show_point(&connection.set, &source.point)?;
        Some(format!("{} · {point}", connection.set.name))
    };
    words().unwrap_or_default()
}

/// What hangs on an item.
#[derive(Serialize, ToSchema)]
pub struct Uses {
    /// What goes when it goes, by kind, and up to 20 by name.
    pub contents: HashMap<String, usize>,
    pub names: Vec<String>,
    /// What refers to it from outside and keeps it from going.
    pub referrers: Vec<ReferrerView>,
    /// Trends kept under a name that show the tag, or one of its tags; they only lose a line when it goes.
    pub trends: Vec<String>,
}

/// Something that refers to an item.
#[derive(Serialize, ToSchema)]
pub struct ReferrerView {
    pub kind: &'static str,
    pub id: Uuid,
    /// How, as the rest of a sentence: “it is the setpoint of …”.
    pub words: String,
}

/// Shows what hangs on an item before it is deleted.
#[utoipa::path(responses((status = 200, body = Uses)))]
#[get("/api/items/{kind}/{id}/uses")]
pub async fn uses(app: Data<App>, person: Person, path: Path<(String, Uuid)>) -> Result<Json<Uses>, Problem> {
    person.may(Action::See)?;
    let (kind, id) = path.into_inner();
    let plant = person.plant(&app);
    let kind = Kind::from_name(&kind).filter(|&k| plant.own(k, id).is_some()).ok_or_else(|| Problem::missing("item"))?;
    let relations = app.relations(&plant);
    let contents = relations.contents(kind, id);
    let mut counts: HashMap<String, usize> = HashMap::new();
    contents.iter().for_each(|(k, _)| *counts.entry(k.name().into()).or_default() += 1);
    let mut names: Vec<String> = contents.iter().map(|&(k, id)| plant.title(k, id)).collect();
    names.sort();
    names.truncate(20);
    let gone: HashSet<Uuid> = contents.iter().map(|c| c.1).chain([id]).collect();
    let all = contents.iter().copied().chain([(kind, id)]);
    let refer = all.flat_map(|(_, i)| relations.referrers(i).iter().cloned());
    let mut found: Vec<Referrer> = refer.filter(|r| !gone.contains(&r.id)).collect();
    found.sort_by(|a, b| a.words.cmp(&b.words));
    found.dedup();
    found.truncate(MOST_REFERRERS);
    let view = |r: Referrer| ReferrerView { kind: r.kind.name(), id: r.id, words: r.words };
    let shows = |trend: &Json_| {
        trend["tags"]
            .as_array()
            .into_iter()
            .flatten()
            .any(|t| t.as_str().and_then(read_name).is_some_and(|(tag, _)| gone.contains(&tag)))
    };
    let kept = app.live.db.kept_questions(Asks::Trend).await?.into_iter();
    let kept = kept.filter(|t| shows(&t.question) && shows_only_seen(&person, &plant, &t.question));
    let trends = kept.map(|t| t.name).collect();
    Ok(Json(Uses { contents: counts, names, referrers: found.into_iter().map(view).collect(), trends }))
}

/// Most things that are named as referring to an item.
const MOST_REFERRERS: usize = 200;

/// What to copy, and where to.
#[derive(Deserialize, ToSchema)]
pub struct CopyBody {
    pub places: Vec<Uuid>,
    /// The place to put the copies under; left out: to the top.
    pub to: Option<Uuid>,
}

/// What became of a copy.
#[derive(Serialize, ToSchema)]
pub struct Copied {
    pub revision: i64,
    /// The copies of the places that were named, without those that lie under another of them.
    pub places: Vec<Uuid>,
}

/// Copies branches of the plant: what refers inside a branch refers to the copy there, what refers out of it stays.
#[utoipa::path(request_body = CopyBody, responses((status = 200, body = Copied), (status = 422, body = Problem)))]
#[post("/api/places/copy")]
pub async fn copy_places(app: Data<App>, person: Person, body: Json<CopyBody>) -> Result<Json<Copied>, Problem> {
    let actor = person.may(Action::Configure)?;
    let plant = person.plant(&app);
    let wrong = |words: String| Problem::field("places", words);
    let (edits, places) = copy::branches(&plant, &body.places, body.to, Uuid::now_v7).map_err(wrong)?;
    if edits.is_empty() || edits.len() > edit::MOST_EDITS {
        return Err(wrong("A copy makes 1 to 100,000 items.".into()));
    }
    let titles: Vec<String> = copy::tops(&plant, &body.places).iter().map(|&id| plant.title(Kind::Place, id)).collect();
    let what = if titles.len() > 3 { format!("{} branches", titles.len()) } else { titles.join(", ") };
    let to = body.to.map_or_else(|| "the top".to_owned(), |id| plant.title(Kind::Place, id));
    let why = format!("Copied {what} to {to}").chars().take(400).collect();
    let by = By { account: Some(actor.account), actor: actor.name.clone(), why, undoes: None };
    let plant = app.live.commit(&edits, &by).await?;
    Ok(Json(Copied { revision: plant.revision, places }))
}

/// One wish.
#[derive(Deserialize, ToSchema)]
pub struct EditBody {
    /// `create`, `patch` or `delete`.
    pub op: String,
    /// `class`, `place`, `layout`, `states`, `connection`, `tag`, `rule`, `report` or `publication`.
    pub kind: String,
    /// Given by the client for new items too, so that edits of one revision can refer to each other.
    pub id: Uuid,
    /// Settings; in a patch null puts a field back to its default.
    #[serde(default)]
    #[schema(value_type = Object)]
    pub set: Own,
    /// With `delete`: take what it contains too.
    #[serde(default)]
    pub contents: bool,
}

/// Wishes that become one revision, all or none.
#[derive(Deserialize, ToSchema)]
pub struct EditsBody {
    /// Stands in the journal.
    pub why: String,
    pub edits: Vec<EditBody>,
}

/// What became of them.
#[derive(Serialize, ToSchema)]
pub struct Committed {
    pub revision: i64,
}

/// Changes the configuration. `If-Match` carries the revision the person saw; an item changed since is not overwritten.
#[utoipa::path(params(("If-Match" = String, Header, description = "The revision the edits are based on")), request_body = EditsBody,
    responses((status = 200, body = Committed), (status = 412, body = Problem), (status = 422, body = Problem)))]
#[post("/api/edits")]
pub async fn change(app: Data<App>, person: Person, request: HttpRequest, body: Payload) -> Result<Json<Committed>, Problem> {
    let actor = person.may(Action::Configure)?;
    let seen = seen(&app, &request)?;
    let body: EditsBody = large(body).await?;
    if body.edits.is_empty() || body.edits.len() > edit::MOST_EDITS {
        return Err(Problem::field("edits", "A revision takes 1 to 100,000 edits."));
    }
    check_why(&body.why)?;
    let edits = wishes(&person.plant(&app), body.edits, seen)?;
    let by = By { account: Some(actor.account), actor: actor.name.clone(), why: body.why, undoes: None };
    let plant = app.live.commit(&edits, &by).await?;
    Ok(Json(Committed { revision: plant.revision }))
}

pub(super) fn seen(app: &App, request: &HttpRequest) -> Result<i64, Problem> {
    let text = request.headers().get(header::IF_MATCH).and_then(|v| v.to_str().ok());
    let number = text.and_then(|t| t.trim().trim_matches('"').parse::<i64>().ok());
    let number =
        number.ok_or_else(|| Problem::new(StatusCode::PRECONDITION_REQUIRED, "Send the revision you saw as If-Match."))?;
    let newest = app.live.plant().revision;
    if !(0..=newest).contains(&number) {
        // A revision that does not exist yet would overrule whatever comes until then.
        let words = format!("If-Match names revision {number}; there is none beyond {newest}. Read it anew.");
        return Err(Problem::new(StatusCode::PRECONDITION_FAILED, words));
    }
    Ok(number)
}

/// Edits as somebody wishes them, of which items of equipment classes say only what differs from their class.
pub(super) fn wishes(plant: &Plant, edits: Vec<EditBody>, seen: i64) -> Result<Vec<Edit>, Problem> {
    let mut edits = edits.into_iter().map(|e| wish(e, seen)).collect::<Result<Vec<_>, _>>()?;
    instances::as_own(plant, &mut edits);
    Ok(edits)
}

fn wish(body: EditBody, seen: i64) -> Result<Edit, Problem> {
    let kind = Kind::from_name(&body.kind).ok_or_else(|| Problem::field("kind", "There is no such kind of item."))?;
    let op = match body.op.as_str() {
        "create" => Op::Create(body.set, None),
        "patch" => Op::Patch(body.set),
        "delete" => Op::Delete { contents: body.contents },
        _ => return Err(Problem::field("op", "An edit is create, patch or delete.")),
    };
    Ok(Edit { kind, id: body.id, op, seen: Some(seen) })
}
