//! What is asked of history: samples as they are, pictures, statistics, and what held at an instant.

use crate::{Db, DbError};
use futures_util::{StreamExt as _, TryStreamExt as _, stream};
use havrel_core::{
    TagNo,
    history::{Fold, GapEnds, NotRecorded, PixelFold, Pixels, Point, Span, SpanFold},
    plant::Track,
    quality::{Quality, Reason},
    sample::{Kind, Value},
    time::Nanos,
};
use sqlx::{AssertSqlSafe, FromRow as _, Row, postgres::PgRow};
use std::collections::VecDeque;
use uuid::Uuid;

/// Tags that one question reads at the same time; recording needs the other connections of the pool.
const QUESTIONS: usize = 3;
/// Samples of one series that are read at once; a question that may end early begins with few and reads more each time.
const PAGE: i64 = 20_000;
const FIRST_PAGE: i64 = 200;

/// What of a tag is asked: its value, or a figure of spans that a recorder keeps.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct TrackOf {
    pub tag: TagNo,
    pub track: Track,
    /// The recorder; nobody where it is the value.
    pub recorder: Uuid,
}

impl From<TagNo> for TrackOf {
    fn from(tag: TagNo) -> TrackOf {
        TrackOf { tag, track: Track::Value, recorder: Uuid::nil() }
    }
}

/// The columns of what is asked, for `unnest`.
fn columns(asked: &[TrackOf]) -> (Vec<i32>, Vec<i16>, Vec<Uuid>) {
    let tags = asked.iter().map(|of| of.tag.cast_signed()).collect();
    (tags, asked.iter().map(|of| of.track as i16).collect(), asked.iter().map(|of| of.recorder).collect())
}

/// The series of what is asked, each with the number of the question from 1 on.
const ASKED: &str = "unnest($1::int[], $2::smallint[], $3::uuid[]) with ordinality as w (tag, track, recorder, i)
     join series s on s.tag_no = w.tag and s.aspect = w.track and s.recorder = w.recorder";

fn all_of<T: Into<TrackOf> + Copy>(tags: &[T]) -> Vec<TrackOf> {
    tags.iter().map(|&tag| tag.into()).collect()
}

/// A stored sample as it was.
#[derive(Clone, Debug, PartialEq)]
pub struct Kept {
    pub time: Nanos,
    pub value: Option<Value>,
    pub quality: Quality,
    pub flags: u8,
    /// The clock epoch in which it was stored.
    pub epoch: u32,
    /// The number of the node that recorded it; 0 where that was not kept yet.
    pub node: u16,
}

/// What was stored of a tag around an instant.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Around {
    /// What held.
    pub held: Option<Kept>,
    /// The next one.
    pub behind: Option<Kept>,
}

/// A span for which a node recorded nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unrecorded {
    /// The number of the node.
    pub node: u16,
    pub from: Nanos,
    pub to: Nanos,
    pub reason: String,
}

/// One series of a tag, read page by page in the order in which it lies.
#[derive(Clone)]
struct Pages {
    series: i32,
    kind: i16,
    /// Time and epoch of the last one read.
    after: (Nanos, i32),
    rows: VecDeque<Kept>,
    /// How many are read next.
    page: i64,
    /// There are no more than those.
    whole: bool,
}

impl Db {
    /// The steps of clocks that touch `from..=to`, in the order of the epochs that they began: those within, and those after
    /// which a part of it was lived again.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn clock_steps(&self, from: Nanos, to: Nanos) -> Result<Vec<ClockEpoch>, DbError> {
        // An epoch ends where the next step of the same clock begins, by the time that it read before.
        let rows = sqlx::query(
            "select steps.epoch, at, by_ns, until, coalesce(no, 0::smallint) as no from (
                 select node, epoch, at, by_ns,
                     greatest(at, least(at - by_ns, lead(at - by_ns) over (partition by node order by epoch))) as until
                 from clock_step) steps left join shipped using (node)
             where at <= $2 and until >= $1 order by steps.epoch limit 1000",
        )
        .bind(from)
        .bind(to)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                let epoch = r.try_get::<i32, _>("epoch")?.unsigned_abs();
                let node = r.try_get::<i16, _>("no")?.unsigned_abs();
                Ok(ClockEpoch { node, epoch, at: r.try_get("at")?, by: r.try_get("by_ns")?, until: r.try_get("until")? })
            })
            .collect()
    }

    /// Samples of a tag in `from..=to` as they are, at most `limit`, newest last; `before` adds the one that holds at `from`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn raw(
        &self,
        tag: impl Into<TrackOf>,
        from: Nanos,
        to: Nanos,
        before: bool,
        limit: i64,
    ) -> Result<Vec<Kept>, DbError> {
        let of = tag.into();
        let rows = sqlx::query(
            "(select s.kind, p.at, p.bits, p.text, p.quality, p.flags, p.epoch, p.node from series s, lateral (
                 select * from sample p where p.series = s.id and p.at < $2 order by p.at desc, p.epoch desc limit 1) p
              where s.tag_no = $1 and s.aspect = $6 and s.recorder = $7 and $4 order by p.at desc, p.epoch desc limit 1)
             union all
             (select s.kind, p.at, p.bits, p.text, p.quality, p.flags, p.epoch, p.node from sample p join series s on s.id = p.series
              where s.tag_no = $1 and s.aspect = $6 and s.recorder = $7 and p.at between $2 and $3 order by p.at, p.epoch limit $5)
             order by at, epoch",
        )
        .bind(of.tag.cast_signed())
        .bind(from)
        .bind(to)
        .bind(before)
        .bind(limit)
        .bind(of.track as i16)
        .bind(of.recorder)
        .fetch_all(&self.heavy)
        .await?;
        rows.iter().map(kept).collect()
    }

    /// The newest that is stored of every tag: its last sample, with the last value where that one only tells a quality.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn newest(&self) -> Result<Vec<(TagNo, Kept)>, DbError> {
        let rows = sqlx::query(
            "select s.kind, p.at, p.bits, p.text, p.quality, p.flags, p.epoch, p.node, s.tag_no from series s, lateral (
                 select * from sample p where p.series = s.id order by p.at desc, p.epoch desc limit 1) p
             where s.aspect = 0 order by s.tag_no, p.epoch desc, p.at desc",
        )
        .fetch_all(&self.heavy)
        .await?;
        let mut all: Vec<(TagNo, Kept)> = Vec::new();
        for row in rows {
            let tag = row.try_get::<i32, _>("tag_no")?.cast_unsigned();
            let kept = kept(&row)?;
            match all.last_mut() {
                // The series of qualities without a value came first; the value is that of the newest other one.
                Some((of, last)) if *of == tag => {
                    if last.value.is_none() {
                        (last.value, last.time) = (kept.value, kept.time);
                    }
                }
                _ => all.push((tag, kept)),
            }
        }
        Ok(all)
    }

    /// Pictures of tags, in their order, `width` pixels wide.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn pixels<T: Into<TrackOf> + Copy>(
        &self,
        tags: &[T],
        from: Nanos,
        to: Nanos,
        width: usize,
    ) -> Result<Vec<Pixels>, DbError> {
        self.fold(tags, from, to, |_| PixelFold::new(from, to, width)).await
    }

    /// Statistics of tags, in their order, each over `parts` equal spans; nothing is known after `known_until`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn spans<T: Into<TrackOf> + Copy>(
        &self,
        tags: &[T],
        from: Nanos,
        to: Nanos,
        parts: usize,
        known_until: Nanos,
    ) -> Result<Vec<Vec<Span>>, DbError> {
        self.fold(tags, from, to, |_| SpanFold::new(from, to, parts, known_until)).await
    }

    /// What held of each tag at an instant, in their order; `None` where nothing was stored before.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn at<T: Into<TrackOf> + Copy>(&self, tags: &[T], instant: Nanos) -> Result<Vec<Option<Kept>>, DbError> {
        let (numbers, tracks, recorders) = columns(&all_of(tags));
        let rows = sqlx::query(AssertSqlSafe(format!(
            "select s.kind, p.at, p.bits, p.text, p.quality, p.flags, p.epoch, p.node, w.i from {ASKED}, lateral (
                 select * from sample p where p.series = s.id and p.at <= $4 order by p.at desc, p.epoch desc limit 1) p",
        )))
        .bind(numbers)
        .bind(tracks)
        .bind(recorders)
        .bind(instant)
        .fetch_all(&self.heavy)
        .await?;
        let mut newest: Vec<Option<Kept>> = vec![None; tags.len()];
        for row in rows {
            let (index, found) = (row.try_get::<i64, _>("i")? as usize - 1, kept(&row)?);
            let newer = newest[index].as_ref().is_none_or(|known| (known.time, known.epoch) < (found.time, found.epoch));
            if newer {
                newest[index] = Some(found);
            }
        }
        Ok(newest)
    }

    /// What held of each tag at each of some instants, with the sample behind it: for each instant the tags in their order. Where
    /// nothing was recorded since a sample, it does not hold on.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn around(&self, tags: &[TagNo], instants: &[Nanos]) -> Result<Vec<Vec<Around>>, DbError> {
        let (Some(&first), Some(&last)) = (instants.first(), instants.last()) else { return Ok(Vec::new()) };
        let numbers: Vec<i32> = tags.iter().map(|tag| tag.cast_signed()).collect();
        let sample = "p.at, p.bits, p.text, p.quality, p.flags, p.epoch, p.node from sample p where p.series = s.id and";
        let rows = sqlx::query(AssertSqlSafe(format!(
            "select s.kind, p.at, p.bits, p.text, p.quality, p.flags, p.epoch, p.node, w.i, t.i, p.behind
             from unnest($1::int[]) with ordinality as w (tag, i)
             join series s on s.tag_no = w.tag and s.aspect = 0 and s.recorder = $3,
             unnest($2::bigint[]) with ordinality as t (at, i), lateral (
                 (select false as behind, {sample} p.at <= t.at order by p.at desc, p.epoch desc limit 1) union all
                 (select true, {sample} p.at > t.at order by p.at, p.epoch desc limit 1)) p",
        )))
        .bind(numbers)
        .bind(instants)
        .bind(Uuid::nil())
        .fetch_all(&self.heavy)
        .await?;
        let mut found = vec![vec![Around::default(); tags.len()]; instants.len()];
        for row in rows {
            let (tag, instant, behind) = (row.try_get::<i64, _>(8)?, row.try_get::<i64, _>(9)?, row.try_get::<bool, _>(10)?);
            let kept = kept(&row)?;
            let around = &mut found[instant as usize - 1][tag as usize - 1];
            let place = if behind { &mut around.behind } else { &mut around.held };
            // A tag may have a series for each type that it had.
            let better = place.as_ref().is_none_or(|known: &Kept| match behind {
                true => (kept.time, known.epoch) < (known.time, kept.epoch),
                false => (kept.time, kept.epoch) > (known.time, known.epoch),
            });
            if better {
                *place = Some(kept);
            }
        }
        let all = || found.iter().flatten();
        let since = all().filter_map(|around| Some(around.held.as_ref()?.time)).min().unwrap_or(first).min(first);
        let until = all().filter_map(|around| Some(around.behind.as_ref()?.time)).max().unwrap_or(last).max(last);
        let gaps = self.not_recorded(since, until).await?;
        let ends = |kept: &Kept, at: Nanos| gaps.iter().any(|gap| gap.ends((kept.node, kept.time), at));
        for (at, around) in instants.iter().zip(&mut found) {
            for around in around {
                // No line is drawn over what was not recorded either.
                let (held, behind) = (&around.held, &around.behind);
                let apart = held.as_ref().zip(behind.as_ref()).is_none_or(|(held, behind)| ends(held, behind.time));
                around.behind = around.behind.take().filter(|_| !apart);
                around.held = around.held.take().filter(|held| !ends(held, *at));
            }
        }
        Ok(found)
    }

    /// Folds the samples of tags in a period, each with the value that holds at its start in front. `make` gives the fold of the tag
    /// with this index.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn fold<T: Into<TrackOf> + Copy, F: Fold>(
        &self,
        tags: &[T],
        from: Nanos,
        to: Nanos,
        make: impl Fn(usize) -> F,
    ) -> Result<Vec<F::Answer>, DbError> {
        let tags = &all_of(tags);
        // Of an hour that was lived twice, statistics and pictures show what came last; `raw` gives both.
        let steps = self.clock_steps(from, to).await?;
        // What concerns all tags is asked once.
        let held = match from.checked_sub(1) {
            Some(before) => self.at(tags, before).await?,
            None => vec![None; tags.len()],
        };
        let series = self.series_of(tags, from, PAGE).await?;
        // Where nothing was recorded no value holds on; the first sample afterwards is always stored.
        let since = held.iter().flatten().map(|k| k.time).min().unwrap_or(from).min(from);
        let gaps = self.not_recorded(since, to).await?;
        let (steps, gaps) = (&steps, &gaps);
        let read = async |held: Option<Kept>, mut series: Vec<Pages>, mut fold: F| {
            let mut ends = GapEnds::new(gaps.clone());
            let mut take = |k: Kept| {
                if !lived_again(steps, &k) {
                    ends.push((k.node, Point::told(k.time, k.value.as_ref(), k.quality)), &mut |p| fold.push(p));
                }
            };
            held.into_iter().for_each(&mut take);
            while let Some(next) = self.next(&mut series, to).await? {
                take(next);
            }
            ends.finish(&mut |p| fold.push(p));
            Ok::<_, DbError>(fold.finish())
        };
        let asked: Vec<_> =
            series.into_iter().zip(held).enumerate().map(|(index, (series, held))| read(held, series, make(index))).collect();
        stream::iter(asked).buffered(QUESTIONS).try_collect().await
    }

    /// Shows the samples of tags in a period as they are, all in the order of time, each with the index of its tag; with `held` in
    /// front those that hold at its start. `show` says whether to go on. Of an hour that was lived twice it is what came last.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn in_order(
        &self,
        tags: &[TagNo],
        from: Nanos,
        to: Nanos,
        held: bool,
        mut show: impl FnMut(usize, Kept) -> bool + Send,
    ) -> Result<(), DbError> {
        let steps = self.clock_steps(from, to).await?;
        let held = match from.checked_sub(1).filter(|_| held) {
            Some(before) => self.at(tags, before).await?,
            None => vec![None; tags.len()],
        };
        for (index, kept) in held.into_iter().enumerate() {
            if let Some(kept) = kept
                && !show(index, kept)
            {
                return Ok(());
            }
        }
        let mut all = self.series_of(&all_of(tags), from, FIRST_PAGE).await?;
        let mut heads = Vec::with_capacity(all.len());
        for pages in &mut all {
            heads.push(self.next(pages, to).await?);
        }
        loop {
            let first = heads.iter().enumerate().filter_map(|(i, k)| k.as_ref().map(|k| (k.time, k.epoch, i))).min();
            let Some((.., index)) = first else { return Ok(()) };
            let next = self.next(&mut all[index], to).await?;
            let Some(kept) = std::mem::replace(&mut heads[index], next) else { continue };
            if !lived_again(&steps, &kept) && !show(index, kept) {
                return Ok(());
            }
        }
    }

    /// When the first sample of a tag in `from..=to` was; none where there is none.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn first_in(&self, tag: TagNo, from: Nanos, to: Nanos) -> Result<Option<Nanos>, DbError> {
        let first = sqlx::query_scalar(
            "select min(p.at) from series s, lateral (
                 select at from sample p where p.series = s.id and p.at between $2 and $3 order by p.at limit 1) p
             where s.tag_no = $1 and s.aspect = 0",
        );
        Ok(first.bind(tag.cast_signed()).bind(from).bind(to).fetch_one(&self.heavy).await?)
    }

    /// The series of what is asked, in the order of the questions, to be read from an instant on.
    async fn series_of(&self, asked: &[TrackOf], from: Nanos, page: i64) -> Result<Vec<Vec<Pages>>, DbError> {
        let (numbers, tracks, recorders) = columns(asked);
        let find = format!("select w.i, s.id, s.kind from {ASKED}");
        let after = from.checked_sub(1).map_or((Nanos::MIN, -1), |before| (before, i32::MAX));
        let mut all: Vec<Vec<Pages>> = vec![Vec::new(); asked.len()];
        let found = sqlx::query(AssertSqlSafe(find)).bind(numbers).bind(tracks).bind(recorders).fetch_all(&self.heavy).await?;
        for row in found {
            let (series, kind) = (row.try_get("id")?, row.try_get("kind")?);
            let pages = Pages { series, kind, after, rows: VecDeque::new(), page, whole: false };
            all[row.try_get::<i64, _>("i")? as usize - 1].push(pages);
        }
        Ok(all)
    }

    /// The next sample of some series, in order of time and epoch.
    async fn next(&self, all: &mut [Pages], to: Nanos) -> Result<Option<Kept>, DbError> {
        for pages in all.iter_mut() {
            if pages.whole || !pages.rows.is_empty() {
                continue;
            }
            let rows = sqlx::query(
                "select $5::smallint, at, bits, text, quality, flags, epoch, node from sample
                 where series = $1 and (at, epoch) > ($2, $3) and at <= $4 order by at, epoch limit $6",
            )
            .bind(pages.series)
            .bind(pages.after.0)
            .bind(pages.after.1)
            .bind(to)
            .bind(pages.kind)
            .bind(pages.page)
            .fetch_all(&self.heavy)
            .await?;
            pages.whole = (rows.len() as i64) < pages.page;
            pages.page = (pages.page * 4).min(PAGE);
            pages.rows = rows.iter().map(kept).collect::<Result<_, _>>()?;
            if let Some(last) = pages.rows.back() {
                pages.after = (last.time, last.epoch.cast_signed());
            }
        }
        let first = |pages: &Pages| pages.rows.front().map(|k| (k.time, k.epoch));
        let earliest = all.iter_mut().filter(|pages| !pages.rows.is_empty()).min_by_key(|pages| first(pages));
        Ok(earliest.and_then(|pages| pages.rows.pop_front()))
    }

    /// As [`Db::unrecorded`], for what ends at such a span.
    async fn not_recorded(&self, from: Nanos, to: Nanos) -> Result<Vec<NotRecorded>, DbError> {
        let gaps = self.unrecorded(from, to).await?;
        Ok(gaps.iter().map(|gap| NotRecorded { node: gap.node, from: gap.from, to: gap.to }).collect())
    }

    /// Spans within `from..=to` for which nothing was recorded.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn unrecorded(&self, from: Nanos, to: Nanos) -> Result<Vec<Unrecorded>, DbError> {
        let rows = sqlx::query(
            "select coalesce(no, 0::smallint) as no, from_ns, to_ns, reason from unrecorded left join shipped using (node)
             where to_ns >= $1 and from_ns <= $2 order by from_ns limit 1000",
        )
        .bind(from)
        .bind(to)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                let node = r.try_get::<i16, _>("no")?.unsigned_abs();
                Ok(Unrecorded { node, from: r.try_get("from_ns")?, to: r.try_get("to_ns")?, reason: r.try_get("reason")? })
            })
            .collect()
    }
}

fn value(kind: Kind, bits: u64, text: Option<String>) -> Option<Value> {
    Some(match kind {
        Kind::Empty => return None,
        Kind::Bool => Value::Bool(bits != 0),
        Kind::I64 => Value::I64(bits as i64),
        Kind::U64 => Value::U64(bits),
        Kind::F32 => Value::F32(f32::from_bits(bits as u32)),
        Kind::F64 => Value::F64(f64::from_bits(bits)),
        Kind::Text => Value::Text(text.unwrap_or_default()),
    })
}

/// An epoch of a clock: it was set, and what it then read again is read from its epoch.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ClockEpoch {
    /// The number of the node whose clock it is.
    pub node: u16,
    pub epoch: u32,
    /// The first instant, by the clock as it read since.
    pub at: Nanos,
    /// How far the clock was moved; negative: set back.
    pub by: Nanos,
    /// Until when instants were lived that an earlier epoch had lived before; `at` where there are none.
    pub until: Nanos,
}

impl ClockEpoch {
    /// Whether it concerns what a node recorded.
    fn of(&self, node: u16) -> bool {
        self.node == node || node == 0 || self.node == 0
    }
}

/// Whether the instant of a sample was lived once more after a clock was set back.
fn lived_again(steps: &[ClockEpoch], kept: &Kept) -> bool {
    steps.iter().any(|s| kept.epoch < s.epoch && (s.at..s.until).contains(&kept.time) && s.of(kept.node))
}

/// What a stored sample is read from: kind, time, value, text, quality, flags, epoch and node. The columns are read by position;
/// to find each of them by its name takes as long as the rest of reading a sample.
type StoredSample = (i16, Nanos, i64, Option<String>, i16, i16, i32, i16);

fn kept(row: &PgRow) -> Result<Kept, DbError> {
    let (kind, time, bits, text, quality, flags, epoch, node) = StoredSample::from_row(row)?;
    let kind = Kind::from_code(kind as u8).unwrap_or(Kind::Empty);
    Ok(Kept {
        time,
        value: value(kind, bits as u64, text),
        quality: Quality::from_bits(quality as u16).unwrap_or(Quality::of(Reason::WrongAnswer)),
        flags: flags as u8,
        epoch: epoch.unsigned_abs(),
        node: node.unsigned_abs(),
    })
}
