//! Reads the rows of a lookup, from either end, some at a time.

use havrel_core::{
    TagNo,
    history::{Figure, Span, SpanFold, StateFold},
    lookup::{Entry, Filter, Rows, Shape, Steps, Table, What, between, figures},
    plant::Plant,
    quality::{Quality, Reason},
    sample::{Value, flag},
    time::{Nanos, SECOND},
};
use havrel_db::{
    Db, DbError,
    answers::{Around, Kept},
};
use std::{collections::HashMap, sync::Arc};

/// Samples that are looked at before a block ends, however few rows came of them.
const MOST_LOOKED_AT: usize = 40_000;
/// Cells that are worked out at once.
const MOST_CELLS: usize = 20_000;
/// Tags whose samples are folded at once.
const AT_ONCE: usize = 10;
/// What stands where nothing was recorded before.
const NOT_RECORDED: &str = "not recorded";

/// A row, and in a long table the index of its tag.
#[derive(Clone, Debug, PartialEq)]
pub struct Row {
    pub tag: Option<usize>,
    pub entries: Vec<Entry>,
}

/// Some rows in their order, and where the next ones begin; none where these are the last.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Block {
    pub rows: Vec<Row>,
    pub next: Option<i64>,
}

/// Reads a lookup.
#[derive(Debug)]
pub struct Reader<'a> {
    db: &'a Db,
    table: &'a Table,
    known_until: Nanos,
    numbers: Vec<TagNo>,
    paths: Vec<Arc<str>>,
    units: Vec<Arc<str>>,
    /// The numbers of the states of each tag.
    states: Vec<Vec<i64>>,
    /// What there is of texts that stand in many cells.
    words: HashMap<&'static str, Arc<str>>,
}

/// What came at one instant, by tag.
type Instant = (Nanos, Vec<(usize, Kept)>);

/// What was read of a stretch of time.
#[derive(Default)]
struct Gathered {
    /// What held before.
    held: Vec<(usize, Kept)>,
    instants: Vec<Instant>,
    /// Where it stopped before the end.
    stopped: Option<Nanos>,
    looked_at: usize,
}

impl<'a> Reader<'a> {
    /// Reads a table of this plant; history is complete until an instant.
    pub fn new(db: &'a Db, plant: &Plant, table: &'a Table, known_until: Nanos) -> Reader<'a> {
        let reasons = Reason::ALL.iter().map(|reason| reason.words()).chain([NOT_RECORDED]);
        Reader {
            db,
            table,
            known_until,
            numbers: table.tags.iter().map(|tag| tag.no).collect(),
            paths: table.tags.iter().map(|tag| plant.tag_path(&tag.set).into()).collect(),
            units: table.tags.iter().map(|tag| tag.set.unit.as_str().into()).collect(),
            states: table.tags.iter().map(|tag| plant.state_names(&tag.set).into_iter().map(|(n, _)| n).collect()).collect(),
            words: reasons.map(|words| (words, words.into())).collect(),
        }
    }

    /// The rows from a place on, about `most` of them; the first ones where no place is given. There may be fewer, and even none,
    /// though more follow: where few fit the condition, a block ends before everything was looked through.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn read(&self, place: Option<i64>, most: usize) -> Result<Block, DbError> {
        match (&self.table.steps, self.table.lookup.newest_first) {
            (None, false) => self.stored(place.unwrap_or(self.table.from).max(self.table.from), most).await,
            (None, true) => self.stored_back(place.unwrap_or(self.table.to).min(self.table.to), most).await,
            (Some(steps), newest_first) => {
                let count = self.table.steps_count(steps);
                let each = if self.table.lookup.shape == Shape::Long { self.numbers.len() } else { 1 };
                let some = (most / each.max(1)).min(MOST_CELLS / self.numbers.len().max(1)).max(1) as u64;
                let place = place.and_then(|place| u64::try_from(place).ok());
                let (from, to) = match newest_first {
                    false => {
                        let from = place.unwrap_or(0).min(count);
                        (from, count.min(from + some))
                    }
                    true => {
                        let to = place.unwrap_or(count).min(count);
                        (to.saturating_sub(some), to)
                    }
                };
                let mut rows = self.stepped(steps, from, to).await?;
                if newest_first {
                    rows.reverse();
                }
                let next = if newest_first { Some(from).filter(|at| *at > 0) } else { Some(to).filter(|at| *at < count) };
                Ok(Block { rows, next: next.and_then(|at| i64::try_from(at).ok()) })
            }
        }
    }

    /// Which share of everything lies before a place, from 0 to 1.
    pub fn share(&self, place: Option<i64>) -> f64 {
        let Some(place) = place else { return 1.0 };
        let (done, whole) = match &self.table.steps {
            Some(steps) => (place as f64, self.table.steps_count(steps) as f64),
            None => ((place - self.table.from) as f64, (self.table.to - self.table.from) as f64),
        };
        let share = if whole > 0.0 { done / whole } else { 1.0 };
        if self.table.lookup.newest_first { 1.0 - share } else { share }
    }

    async fn stored(&self, from: Nanos, most: usize) -> Result<Block, DbError> {
        let found = self.gather(from, self.table.to, most).await?;
        let next = found.stopped;
        Ok(Block { rows: self.rows_of(found), next })
    }

    /// Walks back through time in stretches that hold about as many rows as are wanted.
    async fn stored_back(&self, end: Nanos, most: usize) -> Result<Block, DbError> {
        let (mut end, mut width) = (end, ((self.table.to - self.table.from) / 64).max(SECOND));
        let (mut rows, mut looked_at) = (Vec::new(), 0);
        while end > self.table.from {
            let from = end.saturating_sub(width).max(self.table.from);
            let found = self.gather(from, end, usize::MAX).await?;
            let full = found.stopped.is_some() || rows.len() + found.instants.len() > 4 * most;
            if full && end - from > 1 {
                width = ((end - from) / 4).max(1);
                continue;
            }
            looked_at += found.looked_at.max(1);
            end = from;
            rows.extend(self.rows_of(found).into_iter().rev());
            if rows.len() * 2 >= most || looked_at >= MOST_LOOKED_AT / 2 {
                break;
            }
            width = width.saturating_mul(2);
        }
        Ok(Block { rows, next: (end > self.table.from).then_some(end) })
    }

    /// What was stored in `from..to`, until it is enough for so many rows.
    async fn gather(&self, from: Nanos, to: Nanos, most: usize) -> Result<Gathered, DbError> {
        let mut found = Gathered::default();
        if from >= to {
            return Ok(found);
        }
        let long = self.table.lookup.shape == Shape::Long;
        let mut rows = 0;
        let take = |tag: usize, kept: Kept| {
            if kept.time < from {
                found.held.push((tag, kept));
                return true;
            }
            let news = found.instants.last().is_none_or(|(at, _)| *at != kept.time);
            if news && (rows >= most || found.looked_at >= MOST_LOOKED_AT) {
                found.stopped = Some(kept.time);
                return false;
            }
            rows += usize::from(news || long);
            found.looked_at += 1;
            match found.instants.last_mut().filter(|_| !news) {
                Some((_, all)) => all.push((tag, kept)),
                None => found.instants.push((kept.time, vec![(tag, kept)])),
            }
            true
        };
        self.db.in_order(&self.numbers, from, to - 1, self.table.needs_held(), take).await?;
        Ok(found)
    }

    /// The rows of what was stored, in rising order of time.
    fn rows_of(&self, found: Gathered) -> Vec<Row> {
        let lookup = &self.table.lookup;
        let holds = matches!(lookup.rows, Rows::Stored { held: true });
        let mut filter = self.table.filter();
        let mut known: Vec<Option<Kept>> = vec![None; self.numbers.len()];
        let mut rows = Vec::new();
        for (tag, kept) in found.held {
            filter.know(tag, kept.value.clone(), kept.quality);
            known[tag] = Some(kept);
        }
        for (at, all) in found.instants {
            for (tag, kept) in &all {
                filter.know(*tag, kept.value.clone(), kept.quality);
            }
            let stays = filter.stays(at);
            if lookup.shape == Shape::Long {
                let taken = all.iter().filter(|(_, kept)| stays && lookup.quality.takes(kept.quality));
                rows.extend(taken.map(|(tag, kept)| self.long(*tag, at, |what| self.stored_entry(what, Some(kept)))));
                continue;
            }
            if !holds {
                known.fill(None);
            }
            for (tag, kept) in all {
                known[tag] = Some(kept);
            }
            if stays {
                rows.extend(self.wide(at, |tag, what| {
                    let kept = known[tag].as_ref().filter(|kept| lookup.quality.takes(kept.quality));
                    // Of a tag that told nothing at this instant there is no quality to be told.
                    if kept.is_none() && !holds { Entry::Nothing } else { self.stored_entry(what, kept) }
                }));
            }
        }
        rows
    }

    fn stored_entry(&self, what: &What, kept: Option<&Kept>) -> Entry {
        match (what, kept) {
            (What::Value, Some(kept)) => {
                // Where the quality is bad, what stands there is no value of the plant; it is told as it was stored all the same.
                kept.value.clone().map_or(Entry::Nothing, Entry::Value)
            }
            (What::Quality, kept) => self.quality(kept.map(|kept| kept.quality)),
            (What::Marks, Some(kept)) => marks(kept.flags),
            _ => Entry::Nothing,
        }
    }

    fn quality(&self, quality: Option<Quality>) -> Entry {
        let words = quality.map_or(NOT_RECORDED, |quality| quality.reason().words());
        self.words.get(words).map_or(Entry::Nothing, |words| Entry::Text(words.clone()))
    }

    /// A row of one tag.
    fn long(&self, tag: usize, at: Nanos, entry: impl Fn(&What) -> Entry) -> Row {
        let entries = self.table.columns.iter().map(|column| match column.what {
            What::Time => Entry::Time(at),
            What::Tag => Entry::Text(self.paths[tag].clone()),
            What::Unit => Entry::Text(self.units[tag].clone()),
            ref what => entry(what),
        });
        Row { tag: Some(tag), entries: entries.collect() }
    }

    /// A row of all tags; none where nothing stands in it.
    fn wide(&self, at: Nanos, entry: impl Fn(usize, &What) -> Entry) -> Option<Row> {
        let mut filled = false;
        let entries = self.table.columns.iter().map(|column| match (&column.what, column.tag) {
            (what, Some(tag)) => {
                let entry = entry(tag, what);
                filled |= entry != Entry::Nothing;
                entry
            }
            (What::Time, None) => Entry::Time(at),
            _ => Entry::Nothing,
        });
        let entries = entries.collect();
        filled.then_some(Row { tag: None, entries })
    }

    /// The rows of some steps, in rising order of time.
    async fn stepped(&self, steps: &Steps, from: u64, to: u64) -> Result<Vec<Row>, DbError> {
        let count = usize::try_from(to.saturating_sub(from)).unwrap_or(0);
        match &self.table.lookup.rows {
            Rows::Instants { line, .. } => self.instants(&steps.some(from, count), *line).await,
            Rows::Spans { figures, .. } => self.spans(&steps.some(from, count + 1), figures).await,
            Rows::Stored { .. } => Ok(Vec::new()),
        }
    }

    async fn instants(&self, instants: &[Nanos], line: bool) -> Result<Vec<Row>, DbError> {
        let least = self.table.lookup.quality;
        let mut filter = self.table.filter();
        let mut rows = Vec::new();
        for (&at, around) in instants.iter().zip(self.db.around(&self.numbers, instants).await?) {
            let told = |around: &Around| match &around.held {
                _ if at > self.known_until => (None, None),
                None => (None, None),
                Some(kept) => {
                    let usable = kept.value.as_ref().filter(|_| !kept.quality.is_bad());
                    let behind = around.behind.as_ref().filter(|next| line && !next.quality.is_bad() && at > kept.time);
                    let straight = usable.zip(behind.and_then(|next| Some((next.time, next.value.as_ref()?))));
                    let straight = straight.and_then(|(value, behind)| between((kept.time, value), behind, at));
                    (straight.map(Value::F64).or(usable.cloned()), Some(kept.quality))
                }
            };
            let told: Vec<(Option<Value>, Option<Quality>)> = around
                .iter()
                .map(told)
                .map(|(value, quality)| match quality {
                    Some(quality) if !least.takes(quality) => (None, None),
                    quality => (value, quality),
                })
                .collect();
            for (tag, (value, quality)) in told.iter().enumerate() {
                let unknown = Quality::of(Reason::NotRead);
                filter.know(tag, value.clone(), quality.unwrap_or(unknown));
            }
            if !filter.stays(at) {
                continue;
            }
            let entry = |tag: usize, what: &What| match what {
                What::Value => told[tag].0.clone().map_or(Entry::Nothing, Entry::Value),
                What::Quality => self.quality(told[tag].1),
                _ => Entry::Nothing,
            };
            match self.table.lookup.shape {
                Shape::Wide => rows.push(self.wide(at, entry).unwrap_or_else(|| self.empty(at))),
                Shape::Long => {
                    let tags = (0..told.len()).filter(|tag| least.takes_any() || told[*tag].1.is_some());
                    rows.extend(tags.map(|tag| self.long(tag, at, |what| entry(tag, what))));
                }
            }
        }
        Ok(rows)
    }

    /// A row in which nothing is known.
    fn empty(&self, at: Nanos) -> Row {
        let time = |what: &What| if *what == What::Time { Entry::Time(at) } else { Entry::Nothing };
        Row { tag: None, entries: self.table.columns.iter().map(|column| time(&column.what)).collect() }
    }

    async fn spans(&self, bounds: &[Nanos], wanted: &[Figure]) -> Result<Vec<Row>, DbError> {
        let count = bounds.len().saturating_sub(1);
        let mut all: Vec<Vec<(Span, Vec<Nanos>)>> = vec![Vec::with_capacity(count); self.numbers.len()];
        let mut first = 0;
        while first < count {
            // Spans of one length are folded together.
            let length = bounds[first + 1] - bounds[first];
            let same = bounds[first..].windows(2).take_while(|two| two[1] - two[0] == length).count();
            let bounds = &bounds[first..=first + same];
            let (from, to) = (bounds[0], bounds[same]);
            for (chunk, tags) in self.numbers.chunks(AT_ONCE).enumerate() {
                let folded = self.db.fold(tags, from, to, |index| {
                    let states =
                        if wanted.contains(&Figure::States) { self.states[chunk * AT_ONCE + index].clone() } else { Vec::new() };
                    (SpanFold::new(from, to, same, self.known_until), StateFold::new(bounds.to_vec(), states, self.known_until))
                });
                for (index, (spans, states)) in folded.await?.into_iter().enumerate() {
                    all[chunk * AT_ONCE + index].extend(spans.into_iter().zip(states));
                }
            }
            first += same;
        }
        let stands_for = Figure::ALL.into_iter().find(|figure| wanted.contains(figure)).filter(|f| *f != Figure::States);
        let mut filter = self.table.filter();
        let mut rows = Vec::new();
        for span in 0..count {
            self.know_spans(&mut filter, &all, span, stands_for.unwrap_or(Figure::Last));
            let at = bounds[span];
            if !filter.stays(at) {
                continue;
            }
            let entry = |tag: usize, what: &What| {
                let (figures_of, states) = &all[tag][span];
                match what {
                    What::To => Entry::Time(bounds[span + 1]),
                    What::Figure(figure) => figures(figures_of, *figure),
                    What::InState(number) => {
                        let index = self.states[tag].iter().position(|state| state == number);
                        let time = index.and_then(|index| states.get(index)).filter(|_| figures_of.good > 0.0);
                        time.map_or(Entry::Nothing, |time| Entry::Number((*time as f64 / SECOND as f64).into()))
                    }
                    _ => Entry::Nothing,
                }
            };
            match self.table.lookup.shape {
                Shape::Long => rows.extend((0..self.numbers.len()).map(|tag| self.long(tag, at, |what| entry(tag, what)))),
                Shape::Wide => {
                    let mut row = self.wide(at, entry).unwrap_or_else(|| self.empty(at));
                    let to = self.table.columns.iter().position(|column| column.what == What::To);
                    to.into_iter().for_each(|to| row.entries[to] = Entry::Time(bounds[span + 1]));
                    rows.push(row);
                }
            }
        }
        Ok(rows)
    }

    fn know_spans(&self, filter: &mut Filter, all: &[Vec<(Span, Vec<Nanos>)>], span: usize, figure: Figure) {
        for (tag, spans) in all.iter().enumerate() {
            let value = figures(&spans[span].0, figure).as_value();
            let reason = if value.is_some() { Reason::Fine } else { Reason::NotRead };
            filter.know(tag, value, Quality::of(reason));
        }
    }
}

/// What is known of a stored value beside its quality.
fn marks(flags: u8) -> Entry {
    let all = [
        (flag::LATE, "late"),
        (flag::BY_HAND, "by hand"),
        (flag::OWN_TIME, "time of the source"),
        (flag::AFTER_GAP, "first after a gap"),
        (flag::COMPUTED_LATER, "computed later"),
    ];
    let set: Vec<&str> = all.into_iter().filter(|(bit, _)| flags & bit != 0).map(|(_, words)| words).collect();
    if set.is_empty() { Entry::Nothing } else { Entry::Text(set.join(", ").into()) }
}
