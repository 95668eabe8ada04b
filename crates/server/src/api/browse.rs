//! Looking at what a connection offers: what its device holds, its blocks, figures of Havrel; and a scan of an address space.

use super::lines;
use crate::{
    app::{App, ReadAt},
    auth::Person,
    body::Json,
    problem::Problem,
};
use actix_web::{
    HttpResponse, post,
    web::{Data, Path},
};
use havrel_core::{
    access::Action,
    plant::{Connection, Item, Own, Plant},
    time::to_text,
};
use havrel_db::listed::LONGEST_ABOVE;
use havrel_link::{
    Ask, Kind, Node, kind,
    plain::{FIGURES, Figure},
};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::{
    collections::{HashMap, HashSet},
    rc::Rc,
    sync::{Arc, PoisonError},
    time::Duration,
};
use tokio::sync::mpsc;
use utoipa::ToSchema;
use uuid::Uuid;

/// The node under which the members of a connection's blocks are.
const BLOCKS: &str = "blocks";
/// Most nodes of a page.
const MOST: usize = 5000;

/// What lies below a node.
#[derive(Deserialize, ToSchema)]
pub struct BrowseBody {
    /// The node's `id`; empty for the top.
    #[serde(default)]
    pub node: String,
    /// Where the page begins: empty for the first one, then `next` of the one before. In an address space it is an address.
    #[serde(default)]
    pub cursor: String,
    /// Most nodes of the page, to 5,000.
    pub most: usize,
}

/// A page of what lies below a node.
#[derive(Serialize, ToSchema)]
pub struct ChildrenView {
    pub read_at: String,
    /// What the `parts` of nodes are called.
    pub parts: Vec<&'static str>,
    pub nodes: Vec<NodeView>,
    /// Where the next page begins; null after the last one.
    pub next: Option<String>,
}

/// Something that a connection offers.
#[derive(Serialize, ToSchema)]
pub struct NodeView {
    #[serde(flatten)]
    pub node: Node,
    /// The tag that is read there already, where that is known; empty otherwise.
    pub taken: String,
}

/// Gives a page of what lies below a node: of the device over the running connection, of the connection's blocks (node
/// `blocks`), or of Havrel's own figures.
#[utoipa::path(responses((status = 200, body = ChildrenView), (status = 502, body = Problem)))]
#[post("/api/connections/{id}/browse")]
pub async fn browse(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    body: Json<BrowseBody>,
) -> Result<Json<ChildrenView>, Problem> {
    person.may(Action::Configure)?;
    let body = body.into_inner();
    let most = body.most.clamp(1, MOST);
    let plant = app.live.plant();
    let connection = plant.connections.get(&id).ok_or_else(|| Problem::missing("connection"))?;
    let (parts, offers): (Vec<_>, Box<dyn Iterator<Item = Node>>) = match (&*connection.set.kind, &*body.node) {
        (FIGURES, _) => (vec!["connection", "figure"], Box::new(figures(&plant))),
        (_, BLOCKS) => (vec!["block", "instance", "member", "address"], Box::new(members(&plant, connection)?)),
        _ => {
            let top = body.node.is_empty() && body.cursor.is_empty();
            let found = app.live.browse(*id, Ask { node: body.node, cursor: body.cursor, most }).await?;
            let tree = kind(&connection.set.kind).filter(|kind| kind.describe().can.tree);
            // What else a point holds, such as a deadband, does not make it another one.
            let shown = |point: &Own| tree.and_then(|kind| kind.show_point(&connection.set, point));
            let taken = tree.map(|kind| read_at(&app, &plant, connection, kind)).unwrap_or_default();
            let view = |node: Node| {
                let taken = node.point.as_ref().and_then(shown).and_then(|at| taken.get(&at)).cloned().unwrap_or_default();
                NodeView { node, taken }
            };
            let mut nodes: Vec<_> = found.nodes.into_iter().map(view).collect();
            if top && !connection.set.blocks.is_empty() {
                let node = Node { id: BLOCKS.into(), name: "Blocks".into(), branch: true, ..Node::default() };
                nodes.push(NodeView { node, taken: String::new() });
            }
            return Ok(Json(ChildrenView { read_at: to_text(found.read_at), parts: found.parts, nodes, next: found.next }));
        }
    };
    let start = if body.cursor.is_empty() { Ok(0) } else { body.cursor.parse::<usize>() };
    let start = start.map_err(|_| Problem::field("cursor", "Take the cursor from “next” of the page before."))?;
    let taken = taken(&plant, *id);
    let mut offers = offers.skip(start);
    let view = |node: Node| {
        let taken = node.point.as_ref().and_then(|point| taken.get(&key(point))).cloned().unwrap_or_default();
        NodeView { node, taken }
    };
    let nodes = offers.by_ref().take(most).map(view).collect();
    let next = offers.next().map(|_| (start + most).to_string());
    Ok(Json(ChildrenView { read_at: to_text(havrel_link::now()), parts, nodes, next }))
}

/// What a device lists below a node now.
#[derive(Deserialize, ToSchema)]
pub struct ListedBody {
    /// The node; empty for the top.
    pub node: String,
    /// Id and name of everything right below it, at most 5,000.
    pub nodes: Vec<(String, String)>,
    /// Mark the nodes as seen: later lists are compared with this one.
    pub note: bool,
}

/// Most nodes below one node that are compared.
const MOST_LISTED: usize = 5000;

/// How that differs from what was listed when somebody last marked it as seen.
#[derive(Serialize, ToSchema)]
pub struct ListedView {
    /// When that was; empty where it is the first time.
    pub since: String,
    /// The ids of those that were not listed then.
    pub new: Vec<String>,
    /// Id and name of those that are not listed any more.
    pub gone: Vec<(String, String)>,
}

/// Compares what a device lists below a node with what was listed there before. What is listed for the first time is noted.
#[utoipa::path(responses((status = 200, body = ListedView), (status = 422, body = Problem)))]
#[post("/api/connections/{id}/listed")]
pub async fn listed(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<ListedBody>) -> Result<Json<ListedView>, Problem> {
    person.may(Action::Configure)?;
    if !app.live.plant().connections.contains_key(&id) {
        return Err(Problem::missing("connection"));
    }
    let ListedBody { node, nodes, note } = body.into_inner();
    if nodes.len() > MOST_LISTED {
        return Err(Problem::field("nodes", "At most 5,000 nodes are compared."));
    }
    if node.len() > LONGEST_ABOVE {
        return Err(Problem::field("node", "The id of the node has more than 2,000 bytes."));
    }
    let before = if note { None } else { app.live.db.listed(*id, &node).await? };
    let Some((at, before)) = before else {
        app.live.db.keep_listed(*id, &node, &nodes).await?;
        return Ok(Json(ListedView { since: String::new(), new: Vec::new(), gone: Vec::new() }));
    };
    let known: HashSet<&str> = before.iter().map(|(id, _)| id.as_str()).collect();
    let now: HashSet<&str> = nodes.iter().map(|(id, _)| id.as_str()).collect();
    let new = nodes.iter().filter(|(id, _)| !known.contains(id.as_str())).map(|(id, _)| id.clone()).collect();
    let gone = before.iter().filter(|(id, _)| !now.contains(id.as_str())).cloned().collect();
    Ok(Json(ListedView { since: to_text(at * 1000), new, gone }))
}

/// The tags of a connection by where they are read, in words of its kind.
fn read_at(app: &App, plant: &Plant, connection: &Item<Connection>, kind: &dyn Kind) -> Arc<HashMap<String, String>> {
    let mut kept = app.read_at.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = kept.as_ref().filter(|k| (k.connection, k.revision) == (connection.id, plant.revision)) {
        return known.tags.clone();
    }
    let tags = plant.tags.values().filter(|t| t.set.connection == Some(connection.id));
    let read = tags.filter_map(|t| Some((kind.show_point(&connection.set, &t.set.point)?, plant.tag_path(&t.set))));
    let made: Arc<HashMap<_, _>> = Arc::new(read.collect());
    *kept = Some(ReadAt { connection: connection.id, revision: plant.revision, tags: made.clone() });
    made
}

/// The tags of a connection by where they are read.
fn taken(plant: &Plant, connection: Uuid) -> HashMap<String, String> {
    let tags = plant.tags.values().filter(|t| t.set.connection == Some(connection));
    tags.map(|t| (key(&t.set.point), plant.tag_path(&t.set))).collect()
}

/// A point as text that is equal for equal points.
fn key(point: &Own) -> String {
    let mut fields: Vec<_> = point.iter().collect();
    fields.sort_by_key(|(name, _)| name.as_str());
    serde_json::to_string(&fields).unwrap_or_default()
}

fn object(json: serde_json::Value) -> Own {
    json.as_object().cloned().unwrap_or_default()
}

/// Every member of every instance of a connection's blocks.
fn members<'a>(plant: &'a Plant, connection: &'a Item<Connection>) -> Result<impl Iterator<Item = Node> + 'a, Problem> {
    let kind = kind(&connection.set.kind).ok_or_else(|| Problem::missing("connection kind"))?;
    let spaces = kind.spaces();
    let mut blocks = Vec::new();
    for block in &connection.set.blocks {
        blocks.push((block, plant.leaves(block.layout).map_err(|words| Problem::field("blocks", words))?));
    }
    let instances = blocks.into_iter().flat_map(|(block, leaves)| {
        let leaves = Rc::new(leaves);
        (0..block.count).flat_map(move |index| {
            let leaves = leaves.clone();
            (0..leaves.len()).map(move |leaf| (block, index, leaves.clone(), leaf))
        })
    });
    Ok(instances.map(move |(block, index, leaves, leaf)| {
        let (leaf, m) = (&leaves[leaf], leaves[leaf].member);
        let at = block.place(m, leaf.offset.saturating_add(index.saturating_mul(block.stride)));
        let address = spaces.and_then(|s| s.address(&connection.set, &at)).unwrap_or_default();
        Node {
            name: kind.show_point(&connection.set, &at).unwrap_or_default(),
            parts: vec![block.name.clone(), (index + 1).to_string(), leaf.names.join(" "), address],
            point: Some(object(json!({"block": block.id, "index": index, "member": leaf.steps}))),
            set: object(json!({"unit": m.unit, "states": m.states, "decimals": m.decimals, "range_low": m.range_low,
                "range_high": m.range_high})),
            ..Node::default()
        }
    }))
}

/// Figures of the whole program, and of every connection that is not of this kind itself.
fn figures(plant: &Plant) -> impl Iterator<Item = Node> + '_ {
    let mut connections: Vec<_> = plant.connections.values().filter(|c| c.set.kind != FIGURES).collect();
    connections.sort_by(|a, b| a.set.name.cmp(&b.set.name));
    let whole = Figure::ALL.iter().filter(|f| !f.3).map(|f| ("Havrel", f, None));
    let each = connections.into_iter().flat_map(|c| Figure::ALL.iter().filter(|f| f.3).map(|f| (&*c.set.name, f, Some(c.id))));
    whole.chain(each).map(|(of, &(figure, words, unit, _), connection)| {
        let mut point = json!({"figure": figure});
        if let Some(id) = connection {
            point["connection"] = json!(id);
        }
        let decimals = if ["ms", "1/s", "%", "s"].contains(&unit) { 1 } else { 0 };
        Node {
            name: words.to_lowercase(),
            parts: vec![of.to_owned(), words.to_owned()],
            point: Some(object(point)),
            set: object(json!({"unit": unit, "decimals": decimals})),
            ..Node::default()
        }
    })
}

/// What to scan.
#[derive(Deserialize, ToSchema)]
pub struct ScanBody {
    /// An address space: a node whose children are browsed by address.
    pub node: String,
    pub from: u16,
    /// The last address, itself included.
    pub to: u16,
}

/// How far a scan has come, and what answered in its last step.
#[derive(Serialize, ToSchema)]
pub struct ScanView {
    /// All up to this address has been asked for.
    pub reached: u16,
    /// First and last address of each stretch that answered.
    pub found: Vec<(u16, u16)>,
    /// How many of them hold something other than zero.
    pub busy: usize,
    /// Why the scan ended early; empty while it goes on.
    pub trouble: String,
}

/// Addresses asked for in one step of a scan.
const SCAN_STEP: u32 = 100;
/// Between two steps the device has time for others.
const SCAN_PAUSE: Duration = Duration::from_millis(50);

/// Scans an address space for what answers, step by step with a pause between. The answer is NDJSON; ending the request ends
/// the scan.
#[utoipa::path(responses((status = 200, body = ScanView, content_type = "application/x-ndjson"), (status = 422, body = Problem)))]
#[post("/api/connections/{id}/scan")]
pub async fn scan(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<ScanBody>) -> Result<HttpResponse, Problem> {
    person.may(Action::Configure)?;
    let body = body.into_inner();
    if body.from > body.to {
        return Err(Problem::field("to", "The range must end after it begins."));
    }
    let plant = app.live.plant();
    let connection = plant.connections.get(&id).ok_or_else(|| Problem::missing("connection"))?;
    if kind(&connection.set.kind).and_then(Kind::spaces).is_none() {
        return Err(Problem::field("node", "Devices of this kind have no address spaces."));
    }
    let (sender, receiver) = mpsc::channel(4);
    let (live, id) = (app.live.clone(), *id);
    tokio::spawn(async move {
        let mut at = u32::from(body.from);
        while at <= u32::from(body.to) {
            let count = SCAN_STEP.min(u32::from(body.to) + 1 - at);
            let ask = Ask { node: body.node.clone(), cursor: at.to_string(), most: count as usize };
            let mut view = ScanView { reached: (at + count - 1) as u16, found: Vec::new(), busy: 0, trouble: String::new() };
            match live.browse(id, ask).await {
                Ok(page) => {
                    for (i, node) in page.nodes.iter().enumerate().filter(|(_, node)| node.refused.is_empty()) {
                        let here = (at + i as u32) as u16;
                        view.busy += usize::from(node.readings.first().is_some_and(|r| r.text != "0" && r.text != "false"));
                        match view.found.last_mut() {
                            Some((_, last)) if *last + 1 == here => *last = here,
                            _ => view.found.push((here, here)),
                        }
                    }
                }
                Err(error) => view.trouble = error.to_string(),
            }
            let over = !view.trouble.is_empty();
            if sender.send(view).await.is_err() || over {
                return;
            }
            at += count;
            tokio::time::sleep(SCAN_PAUSE).await;
        }
    });
    Ok(lines(receiver))
}
