//! Fills a report's definition with real data.

use crate::{
    lookup::{Block, Reader},
    performance,
};
use havrel_core::{
    TagNo,
    alarm::{AlarmEvent, SystemAlarm, performance::Performance},
    history::{Every, Figure},
    lookup::{ColumnSums, Entry, Lookup, Period, Rows, Sums, Table},
    number::Number,
    plant::{
        Plant, Report, Section, Tag,
        loop_check::{Checks, Proof},
        report::Below,
        view::{Now, TagQuery, TagView},
    },
    quality::Quality,
    report::{AlarmFigures, Curve, Document, Held, Named, Part, PointRow, Points, Spanned, Tabled},
    sample::Value,
    time::{Nanos, SECOND, to_text},
};
use havrel_db::{Db, DbError, alarms::EventFilter, answers::Kept};
use std::sync::Arc;
use uuid::Uuid;

/// Most alarm events one report prints.
const MOST_EVENTS: i64 = 500;
/// Most rules that one report lists by how often their alarms came.
const MOST_RULES: usize = 20;
/// Most points that one report lists.
const MOST_POINTS: usize = 2000;
/// Most spans that one table lists.
const MOST_SPANS: usize = 2000;
/// Width of trend pictures, in pixels of the drawing.
pub(crate) const PICTURE_WIDTH: usize = 640;

/// Tags whose samples are held at once.
const AT_ONCE: usize = 10;

/// When and by whom a report is made.
#[derive(Clone, Debug)]
pub struct Making {
    /// The time of making.
    pub at: Nanos,
    pub by: String,
    /// What it is about; the report's own period before `at` where nobody chose one.
    pub period: Option<(Nanos, Nanos)>,
    /// Until when history is complete.
    pub complete_until: Nanos,
}

/// Gathers what a report says about its period.
///
/// # Errors
/// When the database does not answer.
pub async fn gather(db: &Db, plant: &Plant, report: &Report, making: &Making, checks: Checks<'_>) -> Result<Document, DbError> {
    let (from, to) = making.period.unwrap_or((making.at - Nanos::from(report.minutes) * 60 * SECOND, making.at));
    let mut parts = Vec::with_capacity(report.sections.len());
    for section in &report.sections {
        parts.push(match section {
            Section::Text { text } => Part::Text(text.clone()),
            Section::Summary { tags } => {
                let named = named(plant, report.place, tags);
                let mut rows = Vec::with_capacity(named.len());
                for some in named.chunks(AT_ONCE) {
                    let all = db.spans(&numbers(plant, some), from, to, 1, making.complete_until).await?;
                    rows.extend(some.iter().zip(all.into_iter().flatten()).map(|((_, tag), span)| (tag.clone(), span)));
                }
                Part::Summary(rows)
            }
            Section::Values { tags } => {
                let mut rows = Vec::with_capacity(tags.len());
                let named = named(plant, report.place, tags);
                let all = db.at(&numbers(plant, &named), to).await?;
                for ((id, tag), kept) in named.into_iter().zip(all) {
                    rows.push((tag, held(plant, &plant.tags[&id].set, kept)));
                }
                Part::Values(rows)
            }
            Section::Table { tags, every, figure, below } => {
                let asked = Asked { every: *every, figure: *figure, below };
                Part::Table(tabled(db, plant, report, tags, asked, (from, to), making.complete_until).await?)
            }
            Section::Trend { tags } => {
                let mut curves = Vec::new();
                let named = named(plant, report.place, tags);
                for some in named.chunks(AT_ONCE) {
                    curves.extend(curves_of(db, plant, some, (from, to), PICTURE_WIDTH).await?);
                }
                Part::Trend(curves)
            }
            Section::Alarms {} => {
                let rules = report.place.map(|place| rules_under(plant, place));
                let filter = EventFilter { from, to, rules, told: true, ..EventFilter::ALL };
                let events = db.alarm_events(&filter, None, MOST_EVENTS).await?;
                let placed = |(_, event): (i64, AlarmEvent)| {
                    let place = place_of(plant, event.rule).map_or_else(String::new, |p| within(plant, report.place, p));
                    (event, place)
                };
                Part::Alarms(events.into_iter().map(placed).collect())
            }
            Section::AlarmFigures {} => {
                let rules = report.place.map(|place| rules_under(plant, place));
                let known: Vec<Uuid> = rules.clone().unwrap_or_else(|| plant.rules.keys().copied().collect());
                let course = performance::course(db, rules.as_deref(), &known, (from, to)).await?;
                let (from, unknown) = (course.from, course.unknown);
                let counted = move || Performance::of(&course.turns, course.from, course.to, course.unknown);
                let performance = tokio::task::spawn_blocking(counted).await.unwrap_or_default();
                let frequent = performance.rules.iter().take(MOST_RULES).map(|of| {
                    let place = place_of(plant, of.rule).map_or_else(String::new, |p| within(plant, report.place, p));
                    (place, called(plant, of.rule), *of)
                });
                Part::AlarmFigures(Box::new(AlarmFigures { rules: frequent.collect(), from, unknown, performance }))
            }
            Section::LoopChecks { proofs } => Part::LoopChecks(points(plant, report.place, proofs, checks)),
        });
    }
    Ok(Document {
        title: report.name.clone(),
        place: plant.path(report.place),
        from,
        to,
        complete_until: making.complete_until,
        made_at: making.at,
        made_by: making.by.clone(),
        zone: report.zone.clone(),
        label: report.label.map(|l| (l.width, l.height)),
        parts,
    })
}

/// What of its tags a table shows.
struct Asked<'a> {
    every: Every,
    figure: Figure,
    below: &'a [Below],
}

/// One figure of tags, for each span of a period.
async fn tabled(
    db: &Db,
    plant: &Plant,
    report: &Report,
    tags: &[Uuid],
    asked: Asked<'_>,
    (from, to): (Nanos, Nanos),
    known_until: Nanos,
) -> Result<Tabled, DbError> {
    let named = named(plant, report.place, tags);
    let period = Period { last_s: None, from: Some(to_text(from)), to: Some(to_text(to)) };
    let lookup = Lookup {
        tags: named.iter().map(|(id, _)| *id).collect(),
        period,
        rows: Rows::Spans { every: asked.every, figures: vec![asked.figure] },
        zone: report.zone.clone(),
        ..Lookup::default()
    };
    let names = |id: &Uuid| plant.tags.get(id).map(|tag| plant.state_names(&tag.set)).unwrap_or_default();
    let tags = named.into_iter().map(|(id, tag)| (tag, if asked.figure.is_a_value() { names(&id) } else { Vec::new() }));
    let mut told =
        Tabled { figure: asked.figure, tags: tags.collect(), rows: Vec::new(), below: Vec::new(), note: String::new() };
    if told.tags.is_empty() {
        return Ok(told);
    }
    let table = match Table::of(plant, lookup, to) {
        Ok(table) => table,
        Err(wrong) => {
            told.note = wrong.into_iter().next().map(|(_, words)| words).unwrap_or_default();
            return Ok(told);
        }
    };
    let reader = Reader::new(db, plant, &table, known_until);
    let mut sums = Sums::new(table.columns.len());
    let mut place = None;
    while told.rows.len() < MOST_SPANS {
        let Block { rows, next } = reader.read(place, MOST_SPANS - told.rows.len()).await?;
        for row in rows {
            sums.see(&row.entries);
            if let [Entry::Time(from), Entry::Time(to), cells @ ..] = row.entries.as_slice() {
                told.rows.push(Spanned { from: *from, to: *to, cells: cells.iter().map(number_in).collect() });
            }
        }
        place = next;
        if place.is_none() {
            break;
        }
    }
    let more = table.rows().unwrap_or_default().saturating_sub(told.rows.len() as u64);
    if more > 0 {
        told.note = format!("{more} more spans are not listed here, nor counted below the columns.");
    }
    let figure = |below: Below, column: &ColumnSums| match below {
        Below::Sum => (column.numbers > 0).then_some(column.sum),
        Below::Average => column.average(),
    };
    let columns = sums.columns.get(2..).unwrap_or_default();
    let row = |below: &Below| (*below, columns.iter().map(|column| figure(*below, column)).collect());
    told.below = asked.below.iter().map(row).collect();
    Ok(told)
}

/// A number, and whether it is rounded.
fn number_in(entry: &Entry) -> Option<(Number, bool)> {
    match entry {
        Entry::Number(number) => Some((*number, false)),
        Entry::Rounded(number) => Some(((*number).into(), true)),
        _ => None,
    }
}

fn numbers(plant: &Plant, named: &[(Uuid, Named)]) -> Vec<TagNo> {
    named.iter().map(|(id, _)| plant.tags[id].no).collect()
}

fn held(plant: &Plant, tag: &Tag, kept: Option<Kept>) -> Held {
    let Some(kept) = kept else { return Held::default() };
    let doubt = if kept.quality == Quality::GOOD { "" } else { kept.quality.reason().words() };
    let Some(value) = kept.value.filter(|_| !kept.quality.is_bad()) else {
        return Held { since: Some(kept.time), doubt, ..Held::default() };
    };
    let named = plant.states_of(tag).is_some() || matches!(value, Value::Bool(_));
    let number = value.exact().filter(|_| !named);
    Held { value: plant.print(tag, &value), number, since: Some(kept.time), doubt }
}

/// Points under a place, in the order of the plant, whose proof is one of those that are wanted.
fn points(plant: &Plant, top: Option<Uuid>, wanted: &[Proof], checks: Checks<'_>) -> Points {
    let query = TagQuery { under: top, bound: Some(true), ..TagQuery::default() };
    let view = TagView::of(plant, query, &Now::default());
    let mut points = Points { counts: Proof::ALL.map(|proof| (proof, 0)).to_vec(), ..Points::default() };
    for &id in view.rows(0, view.len()) {
        let Some(way) = checks.way(id) else { continue };
        let last = checks.last.get(&id);
        let proof = Proof::of(last.map(Arc::as_ref), &way);
        points.counts.iter_mut().filter(|(one, _)| *one == proof).for_each(|(_, count)| *count += 1);
        if !wanted.contains(&proof) {
            continue;
        }
        if points.rows.len() >= MOST_POINTS {
            points.more += 1;
            continue;
        }
        let connection = plant.connections.get(&way.connection).map_or("", |c| c.set.name.as_str());
        let changed = last.filter(|_| proof == Proof::Changed).map(|check| check.way.differs(&way)).unwrap_or_default();
        points.rows.extend(named(plant, top, &[id]).into_iter().map(|(_, tag)| PointRow {
            tag,
            source: format!("{connection} · {}", way.point),
            proof,
            changed: changed.clone(),
            last: last.map(|check| check.as_ref().clone()),
        }));
    }
    points
}

/// How some tags went in a period, with the limits in force now.
///
/// # Errors
/// When the database does not answer.
pub async fn curves_of(
    db: &Db,
    plant: &Plant,
    tags: &[(Uuid, Named)],
    (from, to): (Nanos, Nanos),
    width: usize,
) -> Result<Vec<Curve>, DbError> {
    let all = db.pixels(&numbers(plant, tags), from, to, width).await?;
    let curve = |((id, tag), pixels): (&(Uuid, Named), _)| {
        let rules = plant.rules.values().filter(|r| r.set.tag == *id && r.set.enabled);
        let mut limits: Vec<_> = rules.filter_map(|r| Some((r.set.known_as().to_owned(), r.set.fixed_limit()?.1))).collect();
        limits.sort_by(|a, b| a.1.total_cmp(&b.1));
        let states = plant.tags.get(id).map(|tag| plant.state_names(&tag.set)).unwrap_or_default();
        Curve { tag: tag.clone(), pixels, states, limits }
    };
    Ok(tags.iter().zip(all).map(curve).collect())
}

/// The rules on tags under a place.
pub fn rules_under(plant: &Plant, place: Uuid) -> Vec<Uuid> {
    let under = |tag: Uuid| plant.tags.get(&tag).is_some_and(|t| plant.lies_under(t.set.place, place));
    plant.rules.values().filter(|r| under(r.set.tag)).map(|r| r.id).collect()
}

/// What a rule is called: “Level high”.
pub fn called(plant: &Plant, rule: Uuid) -> String {
    let tag = plant.rules.get(&rule).and_then(|rule| Some((rule, plant.tags.get(&rule.set.tag)?)));
    match (tag, SystemAlarm::of(rule)) {
        (Some((rule, tag)), _) => format!("{} {}", tag.set.name, rule.set.known_as()),
        (None, Some(alarm)) => alarm.cause().trim_end_matches('.').to_owned(),
        (None, None) => "a rule that was deleted".to_owned(),
    }
}

fn place_of(plant: &Plant, rule: Uuid) -> Option<Uuid> {
    plant.rules.get(&rule).and_then(|r| plant.tags.get(&r.set.tag)).map(|t| t.set.place)
}

/// A place's path as a reader of a report about `top` needs it: without what the report's head says already.
fn within(plant: &Plant, top: Option<Uuid>, place: Uuid) -> String {
    let (path, top) = (plant.path(Some(place)), plant.path(top));
    match path.strip_prefix(&top) {
        Some(rest) if !top.is_empty() && !rest.is_empty() => rest.trim_start_matches('/').to_owned(),
        Some("") => path.rsplit('/').next().unwrap_or_default().to_owned(),
        _ => path,
    }
}

fn named(plant: &Plant, top: Option<Uuid>, tags: &[Uuid]) -> Vec<(Uuid, Named)> {
    let name = |id: &Uuid| {
        let tag = &plant.tags.get(id)?.set;
        let (name, unit) = (tag.name.clone(), tag.unit.clone());
        Some((*id, Named { path: within(plant, top, tag.place), name, unit, decimals: tag.decimals }))
    };
    tags.iter().filter_map(name).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::plant::{Kind, Stored};
    use rstest::rstest;
    use serde_json::json;

    fn plant() -> Plant {
        let id = Uuid::from_u128;
        let item = |kind, n, value: serde_json::Value| Stored {
            kind,
            id: id(n),
            no: n as u32,
            revision: 1,
            own: value.as_object().unwrap().clone(),
        };
        let items = vec![
            item(Kind::Place, 1, json!({"name": "Works"})),
            item(Kind::Place, 2, json!({"name": "Extraction", "parent": id(1)})),
            item(Kind::Place, 3, json!({"name": "EX-1", "parent": id(2)})),
            item(Kind::Place, 4, json!({"name": "Extra", "parent": id(1)})),
            item(Kind::Tag, 10, json!({"name": "Level", "place": id(3), "unit": "%"})),
            item(Kind::Tag, 11, json!({"name": "Level", "place": id(4)})),
            item(Kind::Rule, 20, json!({"tag": id(10), "kind": "high", "level": 1.0})),
            item(Kind::Rule, 21, json!({"tag": id(11), "kind": "high", "level": 1.0})),
        ];
        let (plant, broken) = Plant::from_stored(1, items);
        assert!(broken.is_empty());
        plant
    }

    #[rstest]
    #[case::under_the_place(Some(2), 3, "EX-1")]
    #[case::the_place_itself(Some(3), 3, "EX-1")]
    #[case::further_up(Some(1), 3, "Extraction/EX-1")]
    #[case::elsewhere(Some(2), 4, "Works/Extra")]
    #[case::whole_plant(None, 3, "Works/Extraction/EX-1")]
    fn a_place_is_named_as_the_reader_needs_it(#[case] top: Option<u128>, #[case] place: u128, #[case] words: &str) {
        assert_eq!(within(&plant(), top.map(Uuid::from_u128), Uuid::from_u128(place)), words);
    }

    #[test]
    fn rules_are_found_by_place_and_missing_tags_are_passed_over() {
        let plant = plant();
        assert_eq!(rules_under(&plant, Uuid::from_u128(2)), [Uuid::from_u128(20)]);
        assert_eq!(rules_under(&plant, Uuid::from_u128(1)).len(), 2);
        let tags = named(&plant, None, &[Uuid::from_u128(10), Uuid::from_u128(99)]);
        assert_eq!((tags.len(), tags[0].1.unit.as_str()), (1, "%"));
    }
}
