//! Connections with their groups and blocks, and layouts, as one open JSON file: out and in.

use super::plant::{Committed, seen};
use crate::{
    app::App,
    auth::Person,
    body::{Json, large},
    problem::Problem,
};
use actix_web::{
    HttpRequest, get, post,
    web::{Data, Payload, Query},
};
use havrel_core::{
    access::Action,
    plant::{Edit, Kind, Op, Own, Plant, secret::masked_own},
};
use havrel_db::config::By;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// What the file calls itself.
const FORMAT: &str = "havrel-connections";

/// An item with its own settings.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct ItemFile {
    pub id: Uuid,
    #[schema(value_type = Object)]
    pub set: Own,
}

/// The file.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct ConnectionsFile {
    /// `havrel-connections`.
    pub format: String,
    /// 1.
    pub version: u32,
    pub layouts: Vec<ItemFile>,
    pub connections: Vec<ItemFile>,
}

/// Which connections.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ExportQuery {
    /// Only this one, with the layouts it uses; all where it is left out.
    pub only: Option<Uuid>,
}

/// Gives connections and layouts as a file. Of secrets it says only that there are some.
#[utoipa::path(params(ExportQuery), responses((status = 200, body = ConnectionsFile)))]
#[get("/api/connections/export")]
pub async fn export_connections(
    app: Data<App>,
    person: Person,
    query: Query<ExportQuery>,
) -> Result<Json<ConnectionsFile>, Problem> {
    person.may(Action::Configure)?;
    let plant = app.live.plant();
    let mut connections: Vec<_> = plant.connections.values().filter(|c| query.only.is_none_or(|id| c.id == id)).collect();
    connections.sort_by_key(|c| c.id);
    if connections.is_empty() && query.only.is_some() {
        return Err(Problem::missing("connection"));
    }
    let used = |layout: Uuid| connections.iter().any(|c| c.set.blocks.iter().any(|b| plant.layout_holds(b.layout, layout)));
    let mut layouts: Vec<_> = plant.layouts.values().filter(|l| query.only.is_none() || used(l.id)).collect();
    layouts.sort_by_key(|l| l.id);
    let file = |id: Uuid, own: &Own| ItemFile { id, set: masked_own(own) };
    Ok(Json(ConnectionsFile {
        format: FORMAT.into(),
        version: 1,
        layouts: layouts.iter().map(|l| file(l.id, &l.own)).collect(),
        connections: connections.iter().map(|c| file(c.id, &c.own)).collect(),
    }))
}

/// Takes in a file as one revision: what has a known id is changed to what the file says, the rest is made. Connections
/// that are made begin switched off, so that nothing is polled unseen.
#[utoipa::path(request_body = ConnectionsFile,
    params(("If-Match" = String, Header, description = "The revision the person saw")),
    responses((status = 200, body = Committed), (status = 422, body = Problem)))]
#[post("/api/connections/import")]
pub async fn import_connections(
    app: Data<App>,
    person: Person,
    request: HttpRequest,
    body: Payload,
) -> Result<Json<Committed>, Problem> {
    let actor = person.may(Action::Configure)?;
    let seen = seen(&app, &request)?;
    let file: ConnectionsFile = large(body).await?;
    if file.format != FORMAT || file.version != 1 {
        return Err(Problem::field("format", "This is not a file of connections that this version reads."));
    }
    let plant = app.live.plant();
    let count = file.connections.len();
    let edits = edits(&plant, file, seen);
    let why = format!("Imported {count} connection{}", if count == 1 { "" } else { "s" });
    let by = By { account: Some(actor.account), actor: actor.name.clone(), why, undoes: None };
    let plant = app.live.commit(&edits, &by).await?;
    Ok(Json(Committed { revision: plant.revision }))
}

fn edits(plant: &Plant, file: ConnectionsFile, seen: i64) -> Vec<Edit> {
    let mut ids = HashSet::new();
    let mut edits = Vec::new();
    // What stands in another plant under this name stays apart from what is here.
    let names: HashMap<&str, Uuid> = plant.connections.values().map(|c| (c.set.name.as_str(), c.id)).collect();
    let kinds = [(Kind::Layout, file.layouts), (Kind::Connection, file.connections)];
    for (kind, items) in kinds {
        for item in items {
            if !ids.insert(item.id) {
                continue;
            }
            let op = match plant.own(kind, item.id) {
                Some((own, ..)) => {
                    // Fields that the file does not have go back to their defaults.
                    let mut patch: Own = own.keys().map(|field| (field.clone(), serde_json::Value::Null)).collect();
                    patch.extend(item.set);
                    Op::Patch(patch)
                }
                None => {
                    let mut set = item.set;
                    if kind == Kind::Connection {
                        set.insert("enabled".into(), false.into());
                        let name = set.get("name").and_then(|n| n.as_str()).unwrap_or_default().to_owned();
                        if names.contains_key(name.as_str()) {
                            set.insert("name".into(), format!("{name} (imported)").into());
                        }
                    }
                    Op::Create(set, None)
                }
            };
            edits.push(Edit { kind, id: item.id, op, seen: Some(seen) });
        }
    }
    edits
}
