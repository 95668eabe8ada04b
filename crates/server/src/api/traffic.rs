//! What passes between Havrel and a device, and tags from their bytes up.

use super::lines;
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, get, post,
    web::{Data, Path},
};
use havrel_core::{access::Action, sample::Value, time::to_text};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json_;
use std::collections::HashMap;
use tokio::sync::{broadcast::error::RecvError, mpsc};
use utoipa::ToSchema;
use uuid::Uuid;

/// One request and what came of it.
#[derive(Serialize, ToSchema)]
pub struct ExchangeView {
    pub at: String,
    pub took_us: u64,
    /// Number of the device on its line.
    pub unit: u8,
    pub asked: String,
    /// The answer in words, or what went wrong.
    pub answered: String,
    pub passed: bool,
    /// The bytes, two hexadecimal digits each.
    pub sent: String,
    pub received: String,
    /// How many exchanges before this one came too fast to be shown.
    pub left_out: u64,
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect::<Vec<_>>().join(" ")
}

/// Shows the exchanges of a connection as they pass, as NDJSON, until the request is ended. Nothing is kept.
#[utoipa::path(responses((status = 200, body = ExchangeView, content_type = "application/x-ndjson")))]
#[get("/api/connections/{id}/traffic")]
pub async fn traffic(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    person.may(Action::Configure)?;
    let mut exchanges = app.live.traffic(*id)?;
    let (sender, receiver) = mpsc::channel(256);
    tokio::spawn(async move {
        let mut left_out = 0;
        loop {
            let exchange = tokio::select! {
                () = sender.closed() => return,
                exchange = exchanges.recv() => exchange,
            };
            let e = match exchange {
                Ok(exchange) => exchange,
                Err(RecvError::Lagged(count)) => {
                    left_out += count;
                    continue;
                }
                Err(RecvError::Closed) => return,
            };
            let view = ExchangeView {
                at: to_text(e.at),
                took_us: e.took_us,
                unit: e.unit,
                asked: e.asked.clone(),
                answered: e.answered.clone(),
                passed: e.passed,
                sent: hex(&e.sent),
                received: hex(&e.received),
                left_out: std::mem::take(&mut left_out),
            };
            if sender.send(view).await.is_err() {
                return;
            }
        }
    });
    Ok(lines(receiver))
}

/// Which tags.
#[derive(Deserialize, ToSchema)]
pub struct RawBody {
    /// At most 100.
    pub tags: Vec<Uuid>,
}

/// A tag from its bytes up.
#[derive(Serialize, ToSchema)]
pub struct RawView {
    pub tag: Uuid,
    /// The bytes, two hexadecimal digits each.
    pub bytes: String,
    #[schema(value_type = Object, nullable)]
    pub decoded: Json_,
    /// In engineering units.
    #[schema(value_type = Object, nullable)]
    pub scaled: Json_,
    /// Why there is nothing; empty where there is.
    pub words: String,
}

/// Reads tags now, over the running connections, and shows the bytes they are made of.
#[utoipa::path(responses((status = 200, body = Vec<RawView>)))]
#[post("/api/values/raw")]
pub async fn raw_values(app: Data<App>, person: Person, body: Json<RawBody>) -> Result<Json<Vec<RawView>>, Problem> {
    person.may(Action::Configure)?;
    if body.tags.len() > 100 {
        return Err(Problem::field("tags", "At most 100 tags are read at once."));
    }
    let plant = app.live.plant();
    let mut by_connection: HashMap<Uuid, Vec<u32>> = HashMap::new();
    for tag in body.tags.iter().filter_map(|id| plant.tags.get(id)) {
        if let Some(connection) = tag.set.connection {
            by_connection.entry(connection).or_default().push(tag.no);
        }
    }
    let asked = by_connection.into_iter().map(|(connection, tags)| {
        let live = app.live.clone();
        async move {
            match live.raw(connection, &tags).await {
                Ok(found) => tags.into_iter().zip(found.into_iter().map(Ok)).collect::<Vec<_>>(),
                Err(error) => tags.into_iter().map(|no| (no, Err(error.to_string()))).collect(),
            }
        }
    });
    let mut found: HashMap<u32, Result<_, String>> = futures_util::future::join_all(asked).await.into_iter().flatten().collect();
    let json = |value: Option<Value>| value.as_ref().map_or(Json_::Null, Value::to_json);
    let views = body.tags.iter().filter_map(|id| {
        let no = plant.tags.get(id)?.no;
        let (bytes, decoded, scaled, words) = match found.remove(&no) {
            Some(Ok(f)) => (hex(&f.bytes), json(f.decoded), json(f.scaled), f.words),
            Some(Err(words)) => (String::new(), Json_::Null, Json_::Null, words),
            None => (String::new(), Json_::Null, Json_::Null, "It has no connection.".into()),
        };
        Some(RawView { tag: *id, bytes, decoded, scaled, words })
    });
    Ok(Json(views.collect()))
}
