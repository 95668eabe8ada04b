//! Looking back: a request that names an instant is answered as things stood then, with the configuration of then, and may change
//! nothing.

use crate::{app::App, problem::Problem};
use actix_web::{http::StatusCode, http::header::HeaderMap, web::block};
use havrel_core::{
    TagNo,
    engine::Current,
    plant::{Change, Plant, undo},
    quality::{Quality, Reason},
    time::{Nanos, from_text},
};
use havrel_db::answers::Kept;
use std::{collections::HashMap, sync::Arc};

/// The header that names the instant, as RFC 3339.
pub const HEADER: &str = "havrel-instant";
/// The instant that a request is about.
#[derive(Clone)]
pub struct Then {
    pub at: Nanos,
    /// The whole plant by the revision that was in force; the present one where there was none yet.
    pub plant: Arc<Plant>,
    /// Whether a revision was in force.
    pub configured: bool,
}

impl Then {
    /// Reads the instant of a request; `None` where it is about now.
    ///
    /// # Errors
    /// When the instant cannot be read or lies ahead, or the database does not answer.
    pub async fn of(app: &App, headers: &HeaderMap) -> Result<Option<Then>, Problem> {
        let Some(text) = headers.get(HEADER) else { return Ok(None) };
        let wrong = |words: String| Problem::new(StatusCode::BAD_REQUEST, words);
        let at = from_text(text.to_str().unwrap_or_default()).map_err(wrong)?;
        if at > havrel_live::now() {
            return Err(wrong("The instant to look back to lies ahead.".into()));
        }
        let now = app.live.plant();
        let then = |plant, configured| Ok(Some(Then { at, plant, configured }));
        match app.live.db.revision_at(at).await? {
            None => then(now, false),
            Some(revision) if revision >= now.revision => then(now, true),
            Some(revision) => {
                if let Some(plant) = app.earlier.find(revision) {
                    return then(plant, true);
                }
                let _turn = app.limits.heavy().await?;
                let changes = app.live.db.changes_between(revision, now.revision).await?;
                let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
                let made = block(move || back(&now, revision, &changes)).await.map_err(stopping)?;
                let plant = Arc::new(made.map_err(|words| {
                    tracing::error!(revision, words, "the plant of an earlier revision could not be made");
                    let told = format!("The configuration of revision {revision} cannot be shown any more.");
                    Problem::new(StatusCode::INTERNAL_SERVER_ERROR, told)
                })?);
                app.earlier.keep(plant.clone());
                then(plant, true)
            }
        }
    }

    /// What held of tags then, in their order.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn values(&self, app: &App, tags: &[TagNo]) -> Result<Vec<Current>, Problem> {
        let kept = app.live.db.at(tags, self.at).await?;
        let missing = !app.live.db.unrecorded(self.at, self.at).await?.is_empty();
        Ok(kept.into_iter().map(|kept| current(kept, missing)).collect())
    }

    /// The same by number.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn by_number(&self, app: &App, tags: Vec<TagNo>) -> Result<HashMap<TagNo, Current>, Problem> {
        let values = self.values(app, &tags).await?;
        Ok(tags.into_iter().zip(values).collect())
    }
}

/// A plant as it was at an earlier revision, by what was changed since.
fn back(now: &Plant, revision: i64, changes: &[Change]) -> Result<Plant, String> {
    let inverse = |c: Change| Change { before: c.after, after: c.before, ..c };
    let net: Vec<Change> = undo::net(changes).into_iter().map(inverse).collect();
    now.absorb(revision, &net)
}

/// What was stored of a tag, as the newest that is known of it; `missing`: nothing was recorded at that time.
fn current(kept: Option<Kept>, missing: bool) -> Current {
    match kept {
        None => Current { quality: Quality::of(Reason::NotRecorded), ..Current::UNREAD },
        Some(kept) => {
            let quality = if missing { Quality::of(Reason::NotRecorded) } else { kept.quality };
            Current { value: kept.value, time: kept.time, quality, told: kept.time, epoch: kept.epoch, ..Current::UNREAD }
        }
    }
}
