//! Editions of reports: filled from history, printed, and fetched in each format.

use crate::{Live, LiveError, now};
use havrel_core::{
    plant::{Plant, Report, loop_check::Checks},
    report::{Document, Format},
    time::Nanos,
};
use havrel_db::{
    DbError,
    editions::{Edition, Printed},
};
use havrel_jobs::{
    edition,
    gather::{Making, gather},
    html, press,
};
use havrel_link::Kinds;
use tokio::task::spawn_blocking;
use uuid::Uuid;

/// Why there is no edition in a format.
#[derive(Debug, thiserror::Error)]
pub enum NoEdition {
    #[error("There is no such edition.")]
    Missing,
    #[error("This edition was made before there was {}; make it anew.", .0.name().to_uppercase())]
    Before(Format),
    #[error("The report is larger than {0} MiB, which is the most that is sent.")]
    TooLarge(usize),
    #[error(transparent)]
    Press(#[from] press::PressError),
    #[error(transparent)]
    Db(#[from] DbError),
}

impl Live {
    /// Fills a report with what history knows of a period, or of its own, as somebody sees the plant.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn filled(
        &self,
        plant: &Plant,
        report: &Report,
        period: Option<(Nanos, Nanos)>,
        by: &str,
    ) -> Result<Document, DbError> {
        let making = Making { at: now(), by: by.to_owned(), period, complete_until: self.complete_until() };
        let (whole, last) = (self.plant(), self.last_checks());
        gather(&self.db, plant, report, &making, Checks { plant: &whole, last: &last, wire: &Kinds }).await
    }

    /// Makes an edition of a report, which is still to be kept.
    ///
    /// # Errors
    /// When the database does not answer, or it cannot be printed.
    pub async fn make_edition(
        &self,
        (id, report): (Uuid, Uuid),
        plant: &Plant,
        set: &Report,
        period: Option<(Nanos, Nanos)>,
        by: &str,
    ) -> Result<(Edition, Printed), LiveError> {
        let document = self.filled(plant, set, period, by).await?;
        let edition = Edition {
            id,
            report,
            title: document.title.clone(),
            made_at: document.made_at,
            made_by: document.made_by.clone(),
            from: document.from,
            to: document.to,
        };
        let printed = spawn_blocking(move || edition::print(&document)).await.map_err(|_| LiveError::Interrupted)?;
        Ok((edition, printed.map_err(LiveError::Refused)?))
    }

    /// An edition in a format. A PDF is printed when it is first asked for and kept from then on.
    ///
    /// # Errors
    /// When there is none, and why.
    pub async fn edition_in(&self, id: Uuid, format: Format) -> Result<Vec<u8>, NoEdition> {
        let kept = self.db.edition_in(id, format).await?.ok_or(NoEdition::Missing)?;
        match format {
            Format::Pdf if kept.is_empty() => {
                let paper = self.db.edition_paper(id).await?.ok_or(NoEdition::Missing)?;
                if paper.is_empty() {
                    return Err(NoEdition::Before(format));
                }
                // One at a time: printing takes a core for as long as it lasts.
                let turn = self.press.acquire().await;
                let pdf = press::print(&paper).await?;
                drop(turn);
                Ok(self.db.keep_pdf(id, &pdf).await?)
            }
            _ if kept.is_empty() => Err(NoEdition::Before(format)),
            Format::Html => Ok(html::with_fonts(&String::from_utf8_lossy(&kept)).into_bytes()),
            _ => Ok(kept),
        }
    }
}
