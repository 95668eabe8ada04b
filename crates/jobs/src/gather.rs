//! Fills a report's definition with real data.

use havrel_core::{
    alarm::AlarmEvent,
    history::{pixels, spans},
    plant::{Plant, Report, Section},
    report::{Curve, Document, Named, Part},
    time::{Nanos, SECOND},
};
use havrel_db::{Db, DbError, alarms::EventFilter};
use uuid::Uuid;

/// Most alarm events one report prints.
const MOST_EVENTS: i64 = 500;
/// Width of trend pictures, in pixels of the drawing.
pub(crate) const PICTURE_WIDTH: usize = 640;

/// When and by whom a report is made.
#[derive(Clone, Debug)]
pub struct Making {
    /// End of the period, and the time of making.
    pub at: Nanos,
    pub by: String,
    /// Until when history is complete.
    pub complete_until: Nanos,
}

/// Gathers what a report says about the period that ends now.
///
/// # Errors
/// When the database does not answer.
pub async fn gather(db: &Db, plant: &Plant, report: &Report, making: &Making) -> Result<Document, DbError> {
    let to = making.at;
    let from = to - Nanos::from(report.minutes) * 60 * SECOND;
    let mut parts = Vec::with_capacity(report.sections.len());
    for section in &report.sections {
        parts.push(match section {
            Section::Text { text } => Part::Text(text.clone()),
            Section::Summary { tags } => {
                let mut rows = Vec::new();
                for (id, tag) in named(plant, report.place, tags) {
                    let points = db.points(plant.tags[&id].no, from, to).await?;
                    let span = spans(&points, from, to, 1, making.complete_until).swap_remove(0);
                    rows.push((tag, span));
                }
                Part::Summary(rows)
            }
            Section::Trend { tags } => {
                let mut curves = Vec::new();
                for (id, tag) in named(plant, report.place, tags) {
                    let points = db.points(plant.tags[&id].no, from, to).await?;
                    let rules = plant.rules.values().filter(|r| r.set.tag == id && r.set.enabled);
                    let mut limits: Vec<_> = rules.map(|r| (r.set.kind.words(), r.set.level)).collect();
                    limits.sort_by(|a, b| a.1.total_cmp(&b.1));
                    curves.push(Curve { tag, pixels: pixels(&points, from, to, PICTURE_WIDTH), limits });
                }
                Part::Trend(curves)
            }
            Section::Alarms {} => {
                let rules = report.place.map(|place| rules_under(plant, place));
                let filter = EventFilter { from, to, rules, before: None, limit: MOST_EVENTS };
                let events = db.alarm_events(&filter).await?;
                let placed = |(_, event): (i64, AlarmEvent)| {
                    let place = place_of(plant, event.rule).map_or_else(String::new, |p| within(plant, report.place, p));
                    (event, place)
                };
                Part::Alarms(events.into_iter().map(placed).collect())
            }
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
        parts,
    })
}

/// The rules on tags under a place.
pub fn rules_under(plant: &Plant, place: Uuid) -> Vec<Uuid> {
    let under = |tag: Uuid| plant.tags.get(&tag).is_some_and(|t| plant.lies_under(t.set.place, place));
    plant.rules.values().filter(|r| under(r.set.tag)).map(|r| r.id).collect()
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
