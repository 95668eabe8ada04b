//! History: frames go in; `answers.rs` gives what is asked of it. Nothing outside these two files knows how samples lie there.

use crate::{Db, DbError, alarms, journal, people};
use havrel_core::{
    TagNo,
    frame::{Frame, Keep},
    plant::Track,
    sample::{Kind, Sample},
    time::Nanos,
};
use sqlx::{PgConnection, Row};
use std::{
    cmp::Reverse,
    collections::HashMap,
    sync::{Mutex, MutexGuard, PoisonError},
};
use uuid::Uuid;

impl Db {
    /// Stores frames of one node in the order of their numbers. A frame that was stored before is passed over, so
    /// sending again after a lost answer is harmless.
    ///
    /// # Errors
    /// When the database does not answer; then none of them is stored.
    pub async fn append(&self, frames: &[Frame]) -> Result<(), DbError> {
        let stored = self.store(frames).await;
        match &stored {
            // Whatever went wrong, another server may answer next, which does not know what this one knew.
            Err(_) => self.series().clear(),
            Ok(fresh) => self.series().extend(fresh),
        }
        stored.map(drop)
    }

    /// Stores frames of another node, one import at a time: so they leave connections for this node's own frames, and the database
    /// is not taken for one that is away.
    ///
    /// # Errors
    /// As [`Db::append`].
    pub async fn import(&self, frames: &[Frame]) -> Result<(), DbError> {
        let _under_way = self.importing.lock().await;
        self.append(frames).await
    }

    fn series(&self) -> MutexGuard<'_, SeriesIds> {
        self.series.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Stores frames, and gives the series that were not known before.
    async fn store(&self, frames: &[Frame]) -> Result<SeriesIds, DbError> {
        let Some(node) = frames.first().map(|f| f.node) else { return Ok(SeriesIds::new()) };
        let mut tx = self.record.begin().await?;
        self.in_term(&mut tx).await?;
        let made = store(&mut tx, node, frames, &self.series).await?;
        tx.commit().await?;
        Ok(made)
    }

    /// Whether the database would take these entries: stores them and takes that back.
    ///
    /// # Errors
    /// As [`Db::append`].
    pub async fn try_out(&self, frame: &Frame) -> Result<(), DbError> {
        let mut tx = self.record.begin().await?;
        let stored = entries(&mut tx, (frame.node, 0), &[frame], &Mutex::default()).await;
        // A refused statement ends the transaction like the taking back does.
        tx.roll_back().await?;
        stored.map(drop)
    }

    /// How far a node has shipped.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn shipped(&self, node: Uuid) -> Result<Shipped, DbError> {
        let find = "select seq, arrived, epoch from shipped where node = $1";
        let row = sqlx::query(find).bind(node).fetch_optional(&self.record).await?;
        row.map_or(Ok(Shipped::default()), |r| {
            let (seq, epoch) = (r.try_get::<i64, _>("seq")?.unsigned_abs(), r.try_get::<i32, _>("epoch")?.unsigned_abs());
            Ok(Shipped { seq, arrived: r.try_get("arrived")?, epoch })
        })
    }
}

/// How far a node has shipped: number, arrival and clock epoch of its last frame; zeros if none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Shipped {
    pub seq: u64,
    pub arrived: Nanos,
    pub epoch: u32,
}

/// Stores frames that were not stored before, and gives the series that were not known before.
async fn store(conn: &mut PgConnection, node: Uuid, frames: &[Frame], known: &Mutex<SeriesIds>) -> Result<SeriesIds, DbError> {
    let numbered = "select exists (select from shipped where node = $1)";
    while !sqlx::query_scalar::<_, bool>(numbered).bind(node).fetch_one(&mut *conn).await? {
        // Another node that begins at the same moment may take the number first: then the next one is free.
        let first = "insert into shipped (node, term, seq, arrived, no)
                     select $1, 0, 0, 0, coalesce(max(no), 0) + 1 from shipped on conflict do nothing";
        sqlx::query(first).bind(node).execute(&mut *conn).await?;
    }
    let find = "select term, seq, no from shipped where node = $1 for update";
    let row = sqlx::query(find).bind(node).fetch_one(&mut *conn).await?;
    let stored = (row.try_get::<i32, _>("term")?, row.try_get::<i64, _>("seq")?);
    let fresh: Vec<&Frame> = frames.iter().filter(|f| (f.term.cast_signed(), f.seq.cast_signed()) > stored).collect();
    let Some(last) = fresh.last() else { return Ok(SeriesIds::new()) };
    let made = entries(conn, (node, row.try_get("no")?), &fresh, known).await?;
    sqlx::query("update shipped set term = $2, seq = $3, arrived = $4, epoch = $5 where node = $1")
        .bind(node)
        .bind(last.term.cast_signed())
        .bind(last.seq.cast_signed())
        .bind(last.arrived)
        .bind(last.epoch.cast_signed())
        .execute(&mut *conn)
        .await?;
    Ok(made)
}

/// Stores what frames of a node hold; the node is given with its number.
async fn entries(
    conn: &mut PgConnection,
    (node, no): (Uuid, i16),
    frames: &[&Frame],
    known: &Mutex<SeriesIds>,
) -> Result<SeriesIds, DbError> {
    let known = || known.lock().unwrap_or_else(PoisonError::into_inner);
    let missing = missing(&known(), frames);
    let made = series(conn, missing).await?;
    let rows = rows(&known(), &made, frames);
    samples(conn, no, frames, rows).await?;
    alarms::store(conn, frames).await?;
    for gap in frames.iter().flat_map(|f| &f.gaps) {
        sqlx::query("insert into unrecorded (node, from_ns, to_ns, reason) values ($1, $2, $3, $4) on conflict do nothing")
            .bind(node)
            .bind(gap.from)
            .bind(gap.to)
            .bind(&gap.reason)
            .execute(&mut *conn)
            .await?;
    }
    for row in frames.iter().flat_map(|f| &f.rows) {
        sqlx::query("insert into recorder_row (recorder, at, actor) values ($1, $2, $3) on conflict do nothing")
            .bind(row.recorder)
            .bind(row.at)
            .bind(&row.actor)
            .execute(&mut *conn)
            .await?;
    }
    for frame in frames {
        for step in &frame.steps {
            sqlx::query("insert into clock_step (node, epoch, at, by_ns) values ($1, $2, $3, $4) on conflict do nothing")
                .bind(node)
                .bind(step.epoch.cast_signed())
                .bind(step.at)
                .bind(step.by)
                .execute(&mut *conn)
                .await?;
            people::move_sessions(conn, frame.arrived, step.by).await?;
        }
    }
    for note in frames.iter().flat_map(|f| &f.notes) {
        journal::put(conn, note).await?;
    }
    // Formulas keep what they counted every few seconds, all at once; of several for one tag the last counts.
    let keeps: HashMap<TagNo, &Keep> = frames.iter().flat_map(|f| &f.keeps).map(|keep| (keep.tag, keep)).collect();
    if !keeps.is_empty() {
        sqlx::query(
            "insert into kept_value (tag, at, value)
             select tag, at, value::jsonb from unnest($1::int4[], $2::int8[], $3::text[]) as kept (tag, at, value)
             on conflict (tag) do update set at = excluded.at, value = excluded.value",
        )
        .bind(keeps.keys().map(|tag| tag.cast_signed()).collect::<Vec<i32>>())
        .bind(keeps.values().map(|keep| keep.at).collect::<Vec<i64>>())
        .bind(keeps.values().map(|keep| keep.value.clone()).collect::<Vec<String>>())
        .execute(&mut *conn)
        .await?;
    }
    Ok(made)
}

/// What makes a series: tag and type, and for figures of spans the track and the recorder.
pub(crate) type SeriesKey = (TagNo, Kind, Track, Uuid);

/// The series that are known.
pub(crate) type SeriesIds = HashMap<SeriesKey, i32>;

/// A sample to be stored: its series, time and clock epoch, and which one of which frame it is; figures of spans count on behind
/// the samples.
type Place = (i32, Nanos, u32, u32, u32);

fn all<'a>(frames: &'a [&Frame]) -> impl Iterator<Item = (u32, u32, SeriesKey, Sample)> + 'a {
    frames.iter().enumerate().flat_map(|(f, frame)| {
        let values = frame.batch.samples.iter().map(|s| ((s.tag, s.kind, Track::Value, Uuid::nil()), *s));
        let figures = frame.tracked.iter().map(|t| ((t.sample.tag, t.sample.kind, t.track, t.recorder), t.sample));
        values.chain(figures).enumerate().map(move |(i, (key, sample))| (f as u32, i as u32, key, sample))
    })
}

/// One of the samples of a frame, figures of spans behind the others.
fn sample(frame: &Frame, index: u32) -> Sample {
    let values = &frame.batch.samples;
    values.get(index as usize).copied().unwrap_or_else(|| frame.tracked[index as usize - values.len()].sample)
}

fn missing(known: &SeriesIds, frames: &[&Frame]) -> Vec<SeriesKey> {
    all(frames).map(|(_, _, key, _)| key).filter(|key| !known.contains_key(key)).collect()
}

/// The samples in the order in which they lie, so that each page of the table is met once. The last of several with one time
/// wins: one statement must not touch a row twice.
fn rows(known: &SeriesIds, made: &SeriesIds, frames: &[&Frame]) -> Vec<Place> {
    let id = |key: &SeriesKey| known.get(key).or_else(|| made.get(key)).copied();
    let place = |(f, i, key, s): (u32, u32, SeriesKey, Sample)| Some((id(&key)?, s.time, frames[f as usize].epoch, f, i));
    let mut rows: Vec<Place> = all(frames).filter_map(place).collect();
    // The newest of one time first, which is the one that stays.
    rows.sort_unstable_by_key(|&(series, at, epoch, f, i)| (series, at, epoch, Reverse((f, i))));
    rows.dedup_by_key(|row| (row.0, row.1, row.2));
    rows
}

#[derive(Default)]
struct Columns {
    at: Vec<i64>,
    series: Vec<i32>,
    bits: Vec<i64>,
    text: Vec<Option<String>>,
    quality: Vec<i16>,
    flags: Vec<i16>,
    term: Vec<i32>,
    seq: Vec<i64>,
    epoch: Vec<i32>,
    /// Of all of them.
    node: i16,
}

async fn samples(conn: &mut PgConnection, node: i16, frames: &[&Frame], rows: Vec<Place>) -> Result<(), sqlx::Error> {
    if rows.is_empty() {
        return Ok(());
    }
    let mut c = Columns { node, ..Columns::default() };
    for (series, at, _, f, i) in rows {
        let frame = frames[f as usize];
        let s = sample(frame, i);
        c.at.push(at);
        c.series.push(series);
        c.bits.push(if s.kind == Kind::Text { 0 } else { s.bits.cast_signed() });
        // PostgreSQL's text cannot hold the character 0.
        c.text.push((s.kind == Kind::Text).then(|| frame.batch.text_of(s).replace('\0', "")));
        c.quality.push(s.quality.bits().cast_signed());
        c.flags.push(s.flags.into());
        c.term.push(frame.term.cast_signed());
        c.seq.push(frame.seq.cast_signed());
        c.epoch.push(frame.epoch.cast_signed());
    }
    if copied(conn, &c).await? {
        return Ok(());
    }
    upserted(conn, c).await
}

/// Rows as COPY's binary form wants them: a head, for each row the number of its fields and each with its length, and an end
/// (PostgreSQL 15 documentation, COPY, file formats).
fn binary(c: &Columns) -> Vec<u8> {
    fn field(into: &mut Vec<u8>, bytes: &[u8]) {
        into.extend((bytes.len() as i32).to_be_bytes());
        into.extend(bytes);
    }
    let mut bytes = Vec::with_capacity(c.at.len() * 78 + 32);
    bytes.extend(b"PGCOPY\n\xff\r\n\0");
    bytes.extend([0; 8]);
    for i in 0..c.at.len() {
        bytes.extend(10_i16.to_be_bytes());
        field(&mut bytes, &c.series[i].to_be_bytes());
        field(&mut bytes, &c.at[i].to_be_bytes());
        field(&mut bytes, &c.bits[i].to_be_bytes());
        match &c.text[i] {
            Some(text) => field(&mut bytes, text.as_bytes()),
            None => bytes.extend((-1_i32).to_be_bytes()),
        }
        field(&mut bytes, &c.quality[i].to_be_bytes());
        field(&mut bytes, &c.flags[i].to_be_bytes());
        field(&mut bytes, &c.term[i].to_be_bytes());
        field(&mut bytes, &c.seq[i].to_be_bytes());
        field(&mut bytes, &c.epoch[i].to_be_bytes());
        field(&mut bytes, &c.node.to_be_bytes());
    }
    bytes.extend((-1_i16).to_be_bytes());
    bytes
}

/// Stores rows by COPY, which is several times faster, unless one of them is there already, as a late or repeated sample is;
/// says whether they are stored.
async fn copied(conn: &mut PgConnection, c: &Columns) -> Result<bool, sqlx::Error> {
    sqlx::query("savepoint copied").execute(&mut *conn).await?;
    let into = "copy sample (series, at, bits, text, quality, flags, term, seq, epoch, node) from stdin (format binary)";
    let mut copy = conn.copy_in_raw(into).await?;
    copy.send(binary(c)).await?;
    let end = match copy.finish().await {
        Ok(_) => "release savepoint copied",
        Err(sqlx::Error::Database(error)) if error.is_unique_violation() => "rollback to savepoint copied",
        Err(error) => return Err(error),
    };
    sqlx::query(end).execute(conn).await?;
    Ok(end.starts_with("release"))
}

/// Stores rows one by one: of two with one time that of the later term, node and frame stays.
async fn upserted(conn: &mut PgConnection, c: Columns) -> Result<(), sqlx::Error> {
    sqlx::query(
        "insert into sample (series, at, bits, text, quality, flags, term, seq, epoch, node)
         select *, $10 from unnest($1::int[], $2::bigint[], $3::bigint[], $4::text[], $5::smallint[], $6::smallint[], $7::int[], $8::bigint[],
             $9::int[])
         on conflict (series, at, epoch) do update set bits = excluded.bits, text = excluded.text, quality = excluded.quality,
             flags = excluded.flags, term = excluded.term, seq = excluded.seq, node = excluded.node
         where (excluded.term, excluded.node, excluded.seq) > (sample.term, sample.node, sample.seq)",
    )
    .bind(c.series)
    .bind(c.at)
    .bind(c.bits)
    .bind(c.text)
    .bind(c.quality)
    .bind(c.flags)
    .bind(c.term)
    .bind(c.seq)
    .bind(c.epoch)
    .bind(c.node)
    .execute(conn)
    .await?;
    Ok(())
}

/// The series of these, made where they are new.
async fn series(conn: &mut PgConnection, mut wanted: Vec<SeriesKey>) -> Result<SeriesIds, sqlx::Error> {
    if wanted.is_empty() {
        return Ok(SeriesIds::new());
    }
    wanted.sort_unstable_by_key(|&(tag, kind, track, recorder)| (tag, kind as u8, track, recorder));
    wanted.dedup();
    let tags: Vec<i32> = wanted.iter().map(|(tag, ..)| tag.cast_signed()).collect();
    let kinds: Vec<i16> = wanted.iter().map(|(_, kind, ..)| *kind as i16).collect();
    let tracks: Vec<i16> = wanted.iter().map(|(_, _, track, _)| *track as i16).collect();
    let recorders: Vec<Uuid> = wanted.iter().map(|(.., recorder)| *recorder).collect();
    let find = "select s.tag_no, s.kind, s.aspect, s.recorder, s.id from series s
                join unnest($1::int[], $2::smallint[], $3::smallint[], $4::uuid[]) as w(tag, kind, track, recorder)
                    on s.tag_no = w.tag and s.kind = w.kind and s.aspect = w.track and s.recorder = w.recorder";
    let found = async |conn: &mut PgConnection| {
        sqlx::query(find).bind(&tags).bind(&kinds).bind(&tracks).bind(&recorders).fetch_all(conn).await
    };
    let mut rows = found(conn).await?;
    if rows.len() < wanted.len() {
        sqlx::query(
            "insert into series (tag_no, kind, aspect, recorder)
             select * from unnest($1::int[], $2::smallint[], $3::smallint[], $4::uuid[]) on conflict do nothing",
        )
        .bind(&tags)
        .bind(&kinds)
        .bind(&tracks)
        .bind(&recorders)
        .execute(&mut *conn)
        .await?;
        rows = found(conn).await?;
    }
    rows.into_iter()
        .map(|r| {
            let kind = Kind::from_code(r.try_get::<i16, _>("kind")? as u8).unwrap_or(Kind::Empty);
            let track = Track::from_code(r.try_get::<i16, _>("aspect")? as u8).unwrap_or(Track::Value);
            let key = (r.try_get::<i32, _>("tag_no")?.unsigned_abs(), kind, track, r.try_get("recorder")?);
            Ok((key, r.try_get("id")?))
        })
        .collect()
}
