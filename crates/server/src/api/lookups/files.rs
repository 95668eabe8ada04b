//! Lookups as files: written as a job, fetched by whoever asked, and gone when newer ones need the room.

use super::Asked;
use crate::{
    app::App,
    auth::Person,
    body::Json,
    problem::Problem,
    written::{State, Writing},
};
use actix_web::{
    HttpResponse, delete, get,
    http::{StatusCode, header},
    post,
    web::{Bytes, Data, Path, block},
};
use futures_util::stream;
use havrel_core::access::Action;
use havrel_jobs::lookup::{LookupFile, Made};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json_, json};
use std::{
    fs::File,
    io::{self, BufWriter, Write},
    os::unix::fs::FileExt as _,
    sync::{Arc, Mutex},
};
use utoipa::ToSchema;
use uuid::Uuid;

/// Bytes that are sent at once.
const PART: usize = 256 << 10;
/// The largest file, so that nobody fills the disk of the plant.
const LARGEST: u64 = 2 << 30;

/// A file with an end.
struct Bounded {
    out: BufWriter<File>,
    left: u64,
}

impl Write for Bounded {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.left = self.left.checked_sub(bytes.len() as u64).ok_or_else(|| {
            io::Error::other("it would have more than 2 GB; choose a shorter period, or ask for it as a program")
        })?;
        self.out.write_all(bytes)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

/// A lookup to be written.
#[derive(Deserialize, ToSchema)]
pub struct LookupFileBody {
    #[schema(value_type = Object)]
    pub lookup: Json_,
    /// `csv`, `json`, `ndjson`, `xlsx` or `parquet`.
    pub format: String,
    /// What the file is called, without its ending; at most 80 characters.
    pub name: Option<String>,
}

/// A file that is being written, or was.
#[derive(Serialize, ToSchema)]
pub struct LookupFileView {
    pub id: Uuid,
    pub name: String,
    /// From 0 to 1.
    pub share: f64,
    pub rows: u64,
    /// Once it is done.
    pub bytes: Option<u64>,
    /// What kept it from being written.
    pub failed: Option<String>,
}

impl LookupFileView {
    fn of(file: &Writing) -> LookupFileView {
        let (done, total) = file.job.progress();
        let state = file.state();
        let (share, bytes, failed) = match &state.0 {
            State::Working => (done as f64 / total as f64, None, None),
            State::Ready(_, bytes) => (1.0, Some(*bytes), None),
            State::Failed(words) => (1.0, None, Some(words.clone())),
        };
        LookupFileView { id: file.id, name: file.name.clone(), share, rows: state.1, bytes, failed }
    }
}

/// What a file may be called anywhere.
fn plain(name: &str) -> String {
    let plain = |c: char| if c.is_control() || "\\/:*?\"<>|".contains(c) { '_' } else { c };
    name.trim().chars().map(plain).take(80).collect()
}

/// Begins to write a lookup as a file.
#[utoipa::path(request_body = LookupFileBody, responses((status = 200, body = LookupFileView), (status = 422, body = Problem)))]
#[post("/api/lookup/files")]
pub async fn write_lookup(app: Data<App>, person: Person, body: Json<LookupFileBody>) -> Result<Json<LookupFileView>, Problem> {
    let actor = person.may(Action::See)?;
    let LookupFileBody { lookup, format, name } = body.into_inner();
    let words = "The format is csv, json, ndjson, xlsx or parquet.";
    let made = Made::from_name(&format).ok_or_else(|| Problem::field("format", words))?;
    let asked = Asked::written(&app, &person, lookup)?;
    let name = name.as_deref().map(plain).filter(|name| !name.is_empty()).unwrap_or_else(|| "Lookup".into());
    let name = format!("{name}.{}", made.name());
    let running = app.live.jobs.begin(&format!("Writing “{name}”"), 1000);
    let state = Mutex::new((State::Working, 0));
    let file = Arc::new(Writing { id: Uuid::now_v7(), account: actor.account, name, made, job: running.share(), state });
    app.lookup_files.keep(file.clone())?;
    app.live.note("lookup", Some(actor), None, &format!("Exported “{}”", file.name), json!({})).await?;
    let view = LookupFileView::of(&file);
    actix_web::rt::spawn(async move {
        let written = write(&app, &asked, &file).await;
        let cancelled = running.cancelled();
        file.state().0 = match written {
            Ok(_) if cancelled => State::Failed("It was cancelled.".into()),
            Ok((out, bytes)) => State::Ready(Arc::new(out), bytes),
            Err(problem) => State::Failed(problem.detail),
        };
    });
    Ok(Json(view))
}

/// Writes all rows, on threads where nobody waits.
async fn write(app: &App, asked: &Asked, of: &Writing) -> Result<(File, u64), Problem> {
    let failed =
        |error: io::Error| Problem::new(StatusCode::INSUFFICIENT_STORAGE, format!("The file could not be written: {error}."));
    // It has no name, so it is gone with the program whatever happens.
    let out = tempfile::tempfile().map_err(failed)?;
    let not_written = |error: havrel_jobs::lookup::NotWritten| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, error.to_string());
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    let out = Bounded { out: BufWriter::new(out), left: LARGEST };
    let begun = LookupFile::begin(of.made, out, asked.plant.clone(), asked.table.clone());
    let mut file = Some(begun.map_err(not_written)?);
    asked
        .each(app, async |rows, share| {
            let Some(mut at_work) = file.take() else { return Ok(false) };
            let (back, done) = block(move || {
                let done = at_work.write(&rows);
                (at_work, done)
            })
            .await
            .map_err(stopping)?;
            of.state().1 = back.rows();
            file = Some(back);
            done.map_err(not_written)?;
            Ok(of.job.go_on(share))
        })
        .await?;
    let Some(file) = file else { return Err(Problem::failed("a file of a lookup was lost while it was written")) };
    let out = block(move || file.end()).await.map_err(stopping)?.map_err(not_written)?;
    let out = out.out.into_inner().map_err(|error| failed(error.into_error()))?;
    let bytes = out.metadata().map_err(failed)?.len();
    Ok((out, bytes))
}

/// Tells how far a file is.
#[utoipa::path(responses((status = 200, body = LookupFileView), (status = 404, body = Problem)))]
#[get("/api/lookup/files/{id}")]
pub async fn lookup_file(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<LookupFileView>, Problem> {
    person.may(Action::See)?;
    Ok(Json(LookupFileView::of(&*app.lookup_files.of(*id, person.actor.account)?)))
}

/// Fetches a file that was written.
#[utoipa::path(responses((status = 200, body = String), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/api/lookup/files/{id}/content")]
pub async fn lookup_content(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    person.may(Action::See)?;
    let of = app.lookup_files.of(*id, person.actor.account)?;
    let (file, bytes) = match &of.state().0 {
        State::Ready(file, bytes) => (file.clone(), *bytes),
        State::Working => return Err(Problem::new(StatusCode::CONFLICT, "The file is still being written.")),
        State::Failed(words) => return Err(Problem::new(StatusCode::CONFLICT, words.clone())),
    };
    let parts = stream::unfold((file, 0), |(file, at)| async move {
        let again = file.clone();
        let read = block(move || {
            let mut part = vec![0; PART];
            let length = again.read_at(&mut part, at)?;
            part.truncate(length);
            Ok::<_, io::Error>(part)
        });
        match read.await.map_err(io::Error::other).flatten() {
            Ok(part) if part.is_empty() => None,
            Ok(part) => {
                let next = at + part.len() as u64;
                Some((Ok(Bytes::from(part)), (file, next)))
            }
            Err(error) => Some((Err(error), (file, at))),
        }
    });
    let download = header::ContentDisposition {
        disposition: header::DispositionType::Attachment,
        parameters: vec![header::DispositionParam::Filename(of.name.clone())],
    };
    Ok(HttpResponse::Ok()
        .content_type(of.made.media())
        .insert_header(download)
        .insert_header((header::CONTENT_ENCODING, "identity"))
        .no_chunking(bytes)
        .streaming(parts))
}

/// Stops writing a file, or takes one away that was written.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/lookup/files/{id}")]
pub async fn forget_file(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    person.may(Action::See)?;
    let of = app.lookup_files.of(*id, person.actor.account)?;
    app.live.jobs.cancel(of.job.id);
    app.lookup_files.forget(of.id);
    Ok(HttpResponse::NoContent().finish())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_ends_before_it_fills_the_disk() {
        let mut out = Bounded { out: BufWriter::new(tempfile::tempfile().unwrap()), left: 10 };
        assert!(out.write_all(&[0; 10]).is_ok() && out.flush().is_ok());
        assert!(out.write_all(&[0; 1]).unwrap_err().to_string().contains("2 GB"));
    }

    #[test]
    fn a_name_will_do_anywhere() {
        assert_eq!(plain(" a/b:c\n"), "a_b_c");
        assert_eq!(plain(&"x".repeat(200)).len(), 80);
    }
}
