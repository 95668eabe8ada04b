//! Reports as they were made, kept unchanged.

use crate::{Db, DbError, nanos_of};
use havrel_core::{report::Format, time::Nanos};
use sqlx::{PgConnection, Row, postgres::PgRow};
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

/// What an edition says in each format; its PDF is printed from `paper` when it is first asked for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Printed {
    pub html: String,
    pub csv: String,
    pub json: String,
    pub xlsx: Vec<u8>,
    pub paper: String,
}

impl Edition {
    /// Keeps it with its contents; one that is there already stays as it is.
    pub(crate) async fn keep(&self, conn: &mut PgConnection, printed: &Printed) -> Result<(), sqlx::Error> {
        sqlx::query(
            "insert into edition (id, report, title, made_by, from_ns, to_ns, html, csv, paper, json, xlsx)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) on conflict (id) do nothing",
        )
        .bind(self.id)
        .bind(self.report)
        .bind(&self.title)
        .bind(&self.made_by)
        .bind(self.from)
        .bind(self.to)
        .bind(&printed.html)
        .bind(&printed.csv)
        .bind(&printed.paper)
        .bind(&printed.json)
        .bind(&printed.xlsx)
        .execute(conn)
        .await?;
        Ok(())
    }
}

impl Db {
    /// Keeps an edition with its contents.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn keep_edition(&self, edition: &Edition, printed: &Printed) -> Result<(), DbError> {
        let mut conn = self.pool.acquire().await?;
        Ok(edition.keep(&mut conn, printed).await?)
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
        ));
        rows.bind(report).fetch_all(&self.pool).await?.iter().map(edition).collect()
    }

    /// An edition.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn edition(&self, id: Uuid) -> Result<Option<Edition>, DbError> {
        let row = sqlx::query(concat!(
            "select id, report, title, ",
            nanos_of!("made_at"),
            " as made_at, made_by, from_ns, to_ns from edition where id = $1"
        ));
        row.bind(id).fetch_optional(&self.pool).await?.as_ref().map(edition).transpose()
    }

    /// An edition in a format, but for PDF; none where there is no such edition, and nothing in it where it was made before there was that
    /// format.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn edition_in(&self, id: Uuid, format: Format) -> Result<Option<Vec<u8>>, DbError> {
        let find = match format {
            Format::Html => "select convert_to(html, 'UTF8') from edition where id = $1",
            Format::Csv => "select convert_to(csv, 'UTF8') from edition where id = $1",
            Format::Json => "select convert_to(json, 'UTF8') from edition where id = $1",
            Format::Xlsx => "select xlsx from edition where id = $1",
            Format::Pdf => "select coalesce(pdf, '') from edition where id = $1",
        };
        Ok(sqlx::query_scalar(find).bind(id).fetch_optional(&self.pool).await?)
    }

    /// What an edition says on paper.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn edition_paper(&self, id: Uuid) -> Result<Option<String>, DbError> {
        Ok(sqlx::query_scalar("select paper from edition where id = $1").bind(id).fetch_optional(&self.pool).await?)
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

fn edition(row: &PgRow) -> Result<Edition, DbError> {
    Ok(Edition {
        id: row.try_get("id")?,
        report: row.try_get("report")?,
        title: row.try_get("title")?,
        made_at: row.try_get("made_at")?,
        made_by: row.try_get("made_by")?,
        from: row.try_get("from_ns")?,
        to: row.try_get("to_ns")?,
    })
}
