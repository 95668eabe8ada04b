//! Reports as they were made, kept unchanged.

use crate::{Db, DbError, nanos_of};
use havrel_core::time::Nanos;
use sqlx::Row;
use uuid::Uuid;

/// A report as it was made; the contents are fetched by format.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edition {
    pub id: Uuid,
    pub report: Uuid,
    pub title: String,
    pub made_at: Nanos,
    pub made_by: String,
    pub from: Nanos,
    pub to: Nanos,
}

impl Db {
    /// Keeps an edition with its contents.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn keep_edition(&self, edition: &Edition, html: &str, csv: &str, paper: &str) -> Result<(), DbError> {
        sqlx::query(
            "insert into edition (id, report, title, made_by, from_ns, to_ns, html, csv, paper)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
        )
        .bind(edition.id)
        .bind(edition.report)
        .bind(&edition.title)
        .bind(&edition.made_by)
        .bind(edition.from)
        .bind(edition.to)
        .bind(html)
        .bind(csv)
        .bind(paper)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The editions of a report, newest first, at most 200.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn editions(&self, report: Uuid) -> Result<Vec<Edition>, DbError> {
        let rows = sqlx::query(concat!(
            "select id, report, title, ",
            nanos_of!("made_at"),
            " as made_at, made_by, from_ns, to_ns from edition where report = $1 order by made_at desc limit 200"
        ))
        .bind(report)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                Ok(Edition {
                    id: r.try_get("id")?,
                    report: r.try_get("report")?,
                    title: r.try_get("title")?,
                    made_at: r.try_get("made_at")?,
                    made_by: r.try_get("made_by")?,
                    from: r.try_get("from_ns")?,
                    to: r.try_get("to_ns")?,
                })
            })
            .collect()
    }

    /// An edition's title, HTML and CSV.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn edition(&self, id: Uuid) -> Result<Option<(String, String, String)>, DbError> {
        Ok(sqlx::query_as("select title, html, csv from edition where id = $1").bind(id).fetch_optional(&self.pool).await?)
    }

    /// The report that an edition was made of.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn report_of(&self, id: Uuid) -> Result<Option<Uuid>, DbError> {
        Ok(sqlx::query_scalar("select report from edition where id = $1").bind(id).fetch_optional(&self.pool).await?)
    }

    /// What an edition says on paper, and its PDF if it was printed already.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn edition_paper(&self, id: Uuid) -> Result<Option<(String, String, Option<Vec<u8>>)>, DbError> {
        Ok(sqlx::query_as("select title, paper, pdf from edition where id = $1").bind(id).fetch_optional(&self.pool).await?)
    }

    /// Keeps the PDF of an edition, unless there is one; gives the one that is kept.
    ///
    /// # Errors
    /// When the database does not answer, or the edition is gone.
    pub async fn keep_pdf(&self, id: Uuid, pdf: &[u8]) -> Result<Vec<u8>, DbError> {
        let kept = sqlx::query_scalar("update edition set pdf = coalesce(pdf, $2) where id = $1 returning pdf");
        Ok(kept.bind(id).bind(pdf).fetch_one(&self.pool).await?)
    }
}
