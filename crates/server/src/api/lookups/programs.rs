//! Kept lookups for programs: one HTTP call gives all rows, as long as they are.

use super::Asked;
use crate::{app::App, auth::Person, problem::Problem};
use actix_web::{
    FromRequest, HttpRequest, HttpResponse, dev, get,
    http::{StatusCode, header},
    web::{Bytes, Data, Path, Query},
};
use futures_util::stream;
use havrel_core::{
    access::{Action, Scope},
    lookup::Period,
};
use havrel_db::remarks::Asks;
use havrel_jobs::lookup::{LookupFile, Made};
use havrel_live::now;
use serde::Deserialize;
use serde_json::json;
use std::{
    io::{self, Write},
    sync::{Arc, Mutex, PoisonError},
};
use tokio::sync::mpsc;
use utoipa::IntoParams;
use uuid::Uuid;

/// In which form, and which period instead of the kept one.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ReadQuery {
    /// `json` (the default), `csv` or `ndjson`.
    pub format: Option<String>,
    /// So many seconds up to now.
    pub last_s: Option<f64>,
    /// RFC 3339; together with `to`.
    pub from: Option<String>,
    pub to: Option<String>,
}

/// What a file was written of, until it is sent.
#[derive(Clone, Default)]
struct Written(Arc<Mutex<Vec<u8>>>);

impl Written {
    fn take(&self) -> Bytes {
        std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner)).into()
    }
}

impl Write for Written {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// The plant as whoever asks sees it: a person who is signed in, or a program with a token that reads.
async fn plant_of(app: &App, request: &HttpRequest) -> Result<Arc<havrel_core::plant::Plant>, Problem> {
    if !request.headers().contains_key(header::AUTHORIZATION) {
        let person = Person::from_request(request, &mut dev::Payload::None).await?;
        person.may(Action::See)?;
        person.of_now()?;
        return Ok(person.plant(app));
    }
    let token = app.tokens.of(&app.live, request).await?;
    if !token.reads {
        return Err(Problem::new(StatusCode::FORBIDDEN, "This token pushes values. Make one that reads lookups."));
    }
    Ok(app.seen(&token.place.map_or(Scope::Everything, |place| Scope::Branches([place].into()))))
}

/// Gives all rows of a kept lookup to a program that shows a token (`Authorization: Bearer …`), or to a person who is signed in.
#[utoipa::path(params(ReadQuery, ("Authorization" = Option<String>, Header, description = "Bearer and a token that reads")),
    responses((status = 200, body = String), (status = 401, body = Problem), (status = 404, body = Problem)))]
#[get("/api/lookups/{id}/rows")]
pub async fn read_lookup(
    app: Data<App>,
    request: HttpRequest,
    id: Path<Uuid>,
    query: Query<ReadQuery>,
) -> Result<HttpResponse, Problem> {
    let plant = plant_of(&app, &request).await?;
    let made = Made::from_name(query.format.as_deref().unwrap_or("json"));
    let made = made.filter(|made| matches!(made, Made::Json | Made::Csv | Made::Ndjson));
    let made = made.ok_or_else(|| Problem::field("format", "The format is json, csv or ndjson."))?;
    let kept = app.live.db.kept_questions(Asks::Lookup).await?.into_iter().find(|kept| kept.id == *id);
    let mut lookup = kept.ok_or_else(|| Problem::missing("kept lookup"))?.question;
    let ReadQuery { last_s, from, to, .. } = query.into_inner();
    if last_s.is_some() || from.is_some() || to.is_some() {
        lookup["period"] = json!(Period { last_s, from, to });
    }
    let asked = Asked::stored(&app, plant, lookup, now())?;
    let written = Written::default();
    let begun = LookupFile::begin(made, written.clone(), asked.plant.clone(), asked.table.clone());
    let mut file = begun.map_err(|error| Problem::failed(&error.to_string()))?;
    let (send, sent) = mpsc::channel::<Result<Bytes, io::Error>>(4);
    actix_web::rt::spawn(async move {
        let read = asked.each(&app, async |rows, _| {
            let done = file.write(&rows).and_then(|()| file.flush());
            done.map_err(|error| Problem::failed(&error.to_string()))?;
            Ok(send.send(Ok(written.take())).await.is_ok())
        });
        let ended = match read.await {
            Ok(()) => file.end().map_err(|error| error.to_string()),
            Err(problem) => Err(problem.detail),
        };
        // What was cut off must not look as if it were whole: the answer breaks.
        let last = ended.map(|written| written.take()).map_err(io::Error::other);
        let _ = send.send(last).await;
    });
    let parts = stream::unfold(sent, |mut sent| async move { Some((sent.recv().await?, sent)) });
    // Compressed, the rows would be held back.
    let plain = (header::CONTENT_ENCODING, "identity");
    Ok(HttpResponse::Ok().content_type(made.media()).insert_header(plain).streaming(parts))
}
