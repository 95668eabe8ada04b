//! The intake: how what was found would be named, and with what it clashes; and the map of a device's addresses.

use super::{connect::read_point, plant::source_of};
use crate::{
    app::App,
    auth::Person,
    body::{Json, large},
    problem::Problem,
};
use actix_web::{
    post,
    web::{Data, Path, Payload, block},
};
use havrel_core::{
    access::Action,
    intake::{Found, Named, learn},
    plant::{Block, Item, Own, Plant, Tag},
};
use havrel_link::kind;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;
use uuid::Uuid;

/// Most rows of one intake.
const MOST: usize = 20_000;

/// A block to try on the map before it is made.
#[derive(Deserialize, ToSchema)]
pub struct TryBlock {
    pub layout: Uuid,
    /// Where the first instance begins: the driver's own fields.
    #[schema(value_type = Object)]
    pub point: Own,
    pub count: u32,
    #[serde(default)]
    pub stride: u32,
}

/// What to map.
#[derive(Deserialize, ToSchema)]
pub struct MapBody {
    #[serde(default)]
    pub block: Option<TryBlock>,
}

/// A stretch of addresses.
#[derive(Serialize, ToSchema)]
pub struct SpanView {
    /// Which linear space, in words: “unit 1 holding”.
    pub space: String,
    pub start: u32,
    pub count: u32,
    /// `tag`: read by a tag; `block`: laid out by a block, no tag yet; `try`: the block that is tried.
    pub kind: String,
    /// What it is called.
    pub title: String,
    /// The tag, where it is one.
    pub tag: Option<Uuid>,
}

/// Which addresses are taken by what.
#[derive(Serialize, ToSchema)]
pub struct MapView {
    /// In the order of space and start.
    pub spans: Vec<SpanView>,
    /// Stretches that more than one thing takes: space, first and last address, and what meets there.
    pub overlaps: Vec<OverlapView>,
    /// What is wrong with the block that is tried: empty where nothing is.
    pub wrong: String,
}

/// Addresses that more than one thing takes.
#[derive(Serialize, ToSchema)]
pub struct OverlapView {
    pub space: String,
    pub start: u32,
    pub count: u32,
    pub titles: Vec<String>,
}

/// Shows which addresses of a connection are taken, and what a block would take.
#[utoipa::path(responses((status = 200, body = MapView)))]
#[post("/api/connections/{id}/map")]
pub async fn register_map(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<MapBody>) -> Result<Json<MapView>, Problem> {
    person.may(Action::Configure)?;
    let _turn = app.limits.heavy().await?;
    let (plant, id, body) = (app.live.plant(), *id, body.into_inner());
    let stopping = |_| Problem::new(actix_web::http::StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    block(move || map_of(&plant, id, body)).await.map_err(stopping)?.map(Json)
}

fn map_of(plant: &Plant, id: Uuid, body: MapBody) -> Result<MapView, Problem> {
    let connection = plant.connections.get(&id).ok_or_else(|| Problem::missing("connection"))?;
    let kind = kind(&connection.set.kind).ok_or_else(|| Problem::missing("connection kind"))?;
    let spaces = kind.spaces().ok_or_else(|| Problem::field("kind", "Devices of this kind have no address spaces."))?;
    let occupy = |point: &Own| spaces.occupies(&connection.set, point);
    // Where bits part a register, they do not overlap: the first bit and the number of bits, for each span.
    let mut spans: Vec<(SpanView, Option<(u8, u8)>)> = Vec::new();
    for tag in plant.tags.values().filter(|t| t.set.connection == Some(id)) {
        let Ok(source) = plant.source(&connection.set, &tag.set) else { continue };
        let Some(o) = occupy(&source.point) else { continue };
        let view = SpanView {
            space: o.space,
            start: o.start,
            count: o.count,
            kind: "tag".into(),
            title: plant.tag_path(&tag.set),
            tag: Some(tag.id),
        };
        spans.push((view, o.bits));
    }
    let mut wrong = String::new();
    let tried = body.block.map(|t| Block {
        id: Uuid::nil(),
        name: "this block".into(),
        layout: t.layout,
        point: t.point,
        count: t.count.clamp(1, 10_000),
        stride: t.stride,
    });
    for (block, role) in connection.set.blocks.iter().map(|b| (b, "block")).chain(tried.as_ref().map(|b| (b, "try"))) {
        let leaves = match plant.leaves(block.layout) {
            Ok(leaves) => leaves,
            Err(words) => {
                wrong = words;
                continue;
            }
        };
        let values = u64::from(block.count) * leaves.len() as u64;
        if values > MOST as u64 * 5 {
            wrong = format!("“{}” has {values} values; at most {} are shown.", block.name, MOST * 5);
            continue;
        }
        for index in 0..block.count {
            for leaf in &leaves {
                let point = block.place(leaf.member, leaf.offset.saturating_add(index.saturating_mul(block.stride)));
                let title = format!("{} {} {}", block.name, index + 1, leaf.names.join(" "));
                match occupy(&point) {
                    Some(o) if spans.len() < MOST * 5 => spans.push((
                        SpanView { space: o.space, start: o.start, count: o.count, kind: role.into(), title, tag: None },
                        o.bits,
                    )),
                    Some(_) => {}
                    None if role == "try" && wrong.is_empty() => {
                        let told = kind.check_point(&connection.set, &Tag::at(point)).into_iter().next();
                        wrong = told.map_or_else(|| "It cannot be read there.".into(), |(_, words)| format!("{title}: {words}"));
                    }
                    None => {}
                }
            }
        }
    }
    spans.sort_by(|(a, _), (b, _)| (&a.space, a.start, &a.kind, &a.title).cmp(&(&b.space, b.start, &b.kind, &b.title)));
    let overlaps = overlaps(&spans);
    Ok(MapView { spans: spans.into_iter().map(|(s, _)| s).collect(), overlaps, wrong })
}

/// Overlaps that are shown, and pairs of spans that are looked at for them: many things at one address are no reason to think
/// for minutes.
const MOST_OVERLAPS: usize = 1000;
const MOST_COMPARED: usize = 5_000_000;

/// Where spans meet that are not a block and the tags made of it.
fn overlaps(spans: &[(SpanView, Option<(u8, u8)>)]) -> Vec<OverlapView> {
    let end = |s: &SpanView| s.start.saturating_add(s.count);
    let (mut found, mut compared) = (Vec::new(), 0);
    for (i, (a, bits_a)) in spans.iter().enumerate() {
        for (b, bits_b) in spans[i + 1..].iter().take_while(|(b, _)| b.space == a.space && b.start < end(a)) {
            compared += 1;
            if found.len() >= MOST_OVERLAPS || compared > MOST_COMPARED {
                return found;
            }
            // A tag of a block lies on its member by design.
            let same = (a.start, a.count) == (b.start, b.count);
            let of_block = same
                && [a.kind.as_str(), b.kind.as_str()].contains(&"block")
                && a.kind != b.kind
                && !(a.kind == "try" || b.kind == "try");
            let parted = match (bits_a, bits_b) {
                (Some(x), Some(y)) => same && (x.0 + x.1 <= y.0 || y.0 + y.1 <= x.0),
                _ => false,
            };
            if of_block || parted {
                continue;
            }
            found.push(OverlapView {
                space: a.space.clone(),
                start: b.start,
                count: end(a).min(end(b)) - b.start,
                titles: vec![a.title.clone(), b.title.clone()],
            });
        }
    }
    found
}

/// Names typed as examples.
#[derive(Deserialize, ToSchema)]
pub struct NamesBody {
    /// What the parts are called.
    pub parts: Vec<String>,
    /// The parts of each row.
    pub rows: Vec<Vec<String>>,
    /// Row and typed name, in the order they were typed.
    pub examples: Vec<(usize, String)>,
    /// What is named: `rows`, or the `places` they stand in.
    #[serde(default)]
    #[schema(value_type = String)]
    pub of: Named,
}

/// Names that follow from examples.
#[derive(Serialize, ToSchema)]
pub struct NamesView {
    /// The pattern in words; empty before there is one.
    pub words: String,
    /// A name for each row; null where the row lacks what the pattern wants.
    pub names: Vec<Option<String>>,
    /// Rows whose typed names the pattern does not fit; they keep them.
    pub unfit: Vec<usize>,
}

/// Works out names for all rows from the few that were typed.
#[utoipa::path(request_body = NamesBody, responses((status = 200, body = NamesView)))]
#[post("/api/intake/names")]
pub async fn names(person: Person, body: Payload) -> Result<Json<NamesView>, Problem> {
    person.may(Action::Configure)?;
    let body: NamesBody = large(body).await?;
    if body.rows.len() > MOST || body.examples.len() > 200 || body.rows.iter().any(|r| r.len() > 12) {
        return Err(Problem::field("rows", "At most 20,000 rows of 12 parts, and 200 examples."));
    }
    let worked = actix_web::web::block(move || {
        let rows: Vec<Found> = body.rows.into_iter().map(|parts| Found { parts }).collect();
        let Some(naming) = learn(&rows, &body.examples, body.of) else {
            return NamesView { words: String::new(), names: vec![None; rows.len()], unfit: Vec::new() };
        };
        let mut names: Vec<Option<String>> = rows.iter().enumerate().map(|(i, r)| naming.pattern.name(i, r)).collect();
        for (row, name) in body.examples.iter().filter(|(row, _)| naming.unfit.contains(row)) {
            names[*row] = Some(name.clone());
        }
        NamesView { words: naming.pattern.words(&body.parts), names, unfit: naming.unfit }
    });
    let stopping = |_| Problem::new(actix_web::http::StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    Ok(Json(worked.await.map_err(stopping)?))
}

/// Addresses of an intake.
#[derive(Deserialize, ToSchema)]
pub struct PointsBody {
    pub connection: Uuid,
    #[schema(value_type = Vec<Object>)]
    pub points: Vec<Own>,
}

/// How one of them is read.
#[derive(Serialize, ToSchema)]
pub struct ReadPointView {
    /// Where it is, in words; empty where it cannot be read.
    pub shown: String,
    /// Field and sentence for whatever is wrong.
    pub wrong: Vec<(String, String)>,
}

/// Reads all addresses of an intake, in their order.
#[utoipa::path(request_body = PointsBody, responses((status = 200, body = Vec<ReadPointView>)))]
#[post("/api/intake/points")]
pub async fn points(app: Data<App>, person: Person, body: Payload) -> Result<Json<Vec<ReadPointView>>, Problem> {
    person.may(Action::Configure)?;
    let body: PointsBody = large(body).await?;
    if body.points.len() > MOST {
        return Err(Problem::field("points", "At most 20,000 rows."));
    }
    let plant = app.live.plant();
    if !plant.connections.contains_key(&body.connection) {
        return Err(Problem::missing("connection"));
    }
    let read = block(move || {
        let connection = &plant.connections[&body.connection];
        let view = |point: &Own| {
            let (_, shown, wrong) = read_point(&plant, connection, point);
            ReadPointView { shown, wrong }
        };
        body.points.iter().map(view).collect()
    });
    let stopping = |_| Problem::new(actix_web::http::StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    Ok(Json(read.await.map_err(stopping)?))
}

/// Tags that would be made.
#[derive(Deserialize, ToSchema)]
pub struct ClashBody {
    /// Path of the place, and name of the tag.
    pub rows: Vec<(String, String)>,
}

/// What stands where a tag would be made.
#[derive(Serialize, ToSchema)]
pub struct ClashView {
    pub row: usize,
    pub tag: Uuid,
    /// Where that tag is read now; empty where it has no source.
    pub source: String,
}

/// What the rows meet.
#[derive(Serialize, ToSchema)]
pub struct ClashesView {
    /// The places that are there already, by path.
    pub places: HashMap<String, Uuid>,
    pub clashes: Vec<ClashView>,
}

/// Says which places of an intake exist, and which names are taken there.
#[utoipa::path(request_body = ClashBody, responses((status = 200, body = ClashesView)))]
#[post("/api/intake/clashes")]
pub async fn clashes(app: Data<App>, person: Person, body: Payload) -> Result<Json<ClashesView>, Problem> {
    person.may(Action::Configure)?;
    let body: ClashBody = large(body).await?;
    if body.rows.len() > MOST {
        return Err(Problem::field("rows", "At most 20,000 rows."));
    }
    let plant = app.live.plant();
    let there: HashMap<String, Uuid> = plant.places.values().map(|p| (plant.path(Some(p.id)), p.id)).collect();
    let mut tags: HashMap<(Uuid, &str), &Item<Tag>> = HashMap::with_capacity(plant.tags.len());
    for tag in plant.tags.values() {
        tags.insert((tag.set.place, tag.set.name.as_str()), tag);
    }
    let mut view = ClashesView { places: HashMap::new(), clashes: Vec::new() };
    for (row, (path, name)) in body.rows.iter().enumerate() {
        let Some(&place) = there.get(path) else { continue };
        view.places.insert(path.clone(), place);
        if let Some(tag) = tags.get(&(place, name.as_str())) {
            view.clashes.push(ClashView { row, tag: tag.id, source: source_of(&plant, tag.id) });
        }
    }
    Ok(Json(view))
}
