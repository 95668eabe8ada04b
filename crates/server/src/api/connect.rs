//! Connections: test before save, look at registers, read an address as it is typed.

use super::lines;
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, post,
    web::{Data, Path, Query},
};
use havrel_core::{
    access::Action,
    plant::{Connection, Item, Own, Plant, SourceCheck, Tag, resolve},
    time::to_text,
};
use havrel_link::{Drivers, Page, driver};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::time::Duration;
use tokio::sync::mpsc;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// One rung of a test.
#[derive(Serialize, ToSchema)]
pub struct StepView {
    pub name: String,
    pub tried: String,
    pub passed: bool,
    pub answer: String,
    /// What usually mends it; empty where it passed.
    pub cure: String,
    /// What the settings could take over so that it passes.
    pub offer: Option<SettingOffer>,
    pub took_us: u64,
}

/// Something found out by a test that a setting could hold.
#[derive(Serialize, ToSchema)]
pub struct SettingOffer {
    /// Of the connection's settings, such as `tls.fingerprint`.
    pub field: String,
    pub value: String,
    /// What taking it does.
    pub words: String,
}

/// Whose secrets are meant.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct TestQuery {
    /// The saved connection whose secrets count where none were typed anew.
    pub id: Option<Uuid>,
}

fn connection(settings: &Own) -> Result<Connection, Problem> {
    resolve(None, settings).map_err(|(field, message)| Problem::field(&field, message))
}

/// Tries a connection that need not be saved yet. The answer is NDJSON, one step a line as it is climbed; ending the
/// request ends the test.
#[utoipa::path(params(TestQuery), request_body = Object, responses((status = 200, body = StepView, content_type = "application/x-ndjson"), (status = 422, body = Problem)))]
#[post("/api/connections/test")]
pub async fn test(app: Data<App>, person: Person, query: Query<TestQuery>, body: Json<Own>) -> Result<HttpResponse, Problem> {
    person.may(Action::Configure)?;
    let connection = app.live.ready(query.id, connection(&body)?);
    let wrong = Drivers.connection(&connection);
    if let Some((field, message)) = wrong.first() {
        return Err(Problem::field(field, message.clone()));
    }
    let Some(driver) = driver(&connection.kind) else { return Err(Problem::field("kind", "There is no such connection kind.")) };
    let (sender, mut receiver) = mpsc::channel(4);
    tokio::spawn(async move { driver.test(&connection, sender).await });
    let (views, shown) = mpsc::channel(4);
    tokio::spawn(async move {
        while let Some(s) = receiver.recv().await {
            let offer = s.offer.map(|o| SettingOffer { field: o.field.to_owned(), value: o.value, words: o.words.to_owned() });
            let (name, tried, passed, answer, cure) = (s.name, s.tried, s.passed, s.answer, s.cure);
            let view = StepView { name, tried, passed, answer, cure, offer, took_us: s.took_us };
            if views.send(view).await.is_err() {
                return;
            }
        }
    });
    Ok(lines(shown))
}

/// Registers as they stand now.
#[derive(Serialize, ToSchema)]
pub struct PageView {
    pub read_at: String,
    pub items: Vec<FoundView>,
}

/// One register or bit.
#[derive(Serialize, ToSchema)]
pub struct FoundView {
    /// As it goes on the wire.
    pub label: String,
    /// As manuals write it.
    pub manual: String,
    /// Why the device did not give it.
    pub refused: String,
    pub readings: Vec<ReadingView>,
}

/// One interpretation.
#[derive(Serialize, ToSchema)]
pub struct ReadingView {
    /// The type a point would have.
    pub kind: String,
    /// The order of its bytes.
    pub order: String,
    pub text: String,
}

/// Reads a page of registers over the running connection.
#[utoipa::path(request_body = Object, responses((status = 200, body = PageView), (status = 502, body = Problem)))]
#[post("/api/connections/{id}/look")]
pub async fn look(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<Own>) -> Result<Json<PageView>, Problem> {
    person.may(Action::Configure)?;
    let page = app.live.browse(*id, body.into_inner()).await?;
    Ok(Json(page_view(page)))
}

fn page_view(page: Page) -> PageView {
    let items = page.items.into_iter().map(|f| FoundView {
        label: f.label,
        manual: f.manual,
        refused: f.refused,
        readings: f
            .readings
            .into_iter()
            .map(|r| ReadingView { kind: r.kind.into(), order: r.order.into(), text: r.text })
            .collect(),
    });
    PageView { read_at: to_text(page.read_at), items: items.collect() }
}

/// What to scan.
#[derive(Deserialize, ToSchema)]
pub struct ScanBody {
    /// `coil`, `discrete`, `input` or `holding`.
    pub table: String,
    pub unit: Option<u8>,
    pub from: u16,
    /// The last address, itself included.
    pub to: u16,
}

/// How far a scan has come, and what answered in its last step.
#[derive(Serialize, ToSchema)]
pub struct ScanView {
    /// All up to this address has been asked for.
    pub reached: u16,
    /// First and last address of each stretch that answered.
    pub found: Vec<(u16, u16)>,
    /// How many of them hold something other than zero.
    pub busy: usize,
    /// Why the scan ended early; empty while it goes on.
    pub trouble: String,
}

/// Addresses asked for in one step of a scan.
const SCAN_STEP: u32 = 100;
/// Between two steps the device has time for others.
const SCAN_PAUSE: Duration = Duration::from_millis(50);

/// Scans a range for what answers, step by step with a pause between. The answer is NDJSON; ending the request ends the
/// scan.
#[utoipa::path(responses((status = 200, body = ScanView, content_type = "application/x-ndjson"), (status = 422, body = Problem)))]
#[post("/api/connections/{id}/scan")]
pub async fn scan(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<ScanBody>) -> Result<HttpResponse, Problem> {
    person.may(Action::Configure)?;
    let body = body.into_inner();
    if body.from > body.to {
        return Err(Problem::field("to", "The range must end after it begins."));
    }
    let (sender, receiver) = mpsc::channel(4);
    let (live, id) = (app.live.clone(), *id);
    tokio::spawn(async move {
        let mut at = u32::from(body.from);
        while at <= u32::from(body.to) {
            let count = SCAN_STEP.min(u32::from(body.to) + 1 - at);
            let mut ask = json!({"table": body.table, "start": at, "count": count});
            if let Some(unit) = body.unit {
                ask["unit"] = unit.into();
            }
            let ask = ask.as_object().cloned().unwrap_or_default();
            let mut view = ScanView { reached: (at + count - 1) as u16, found: Vec::new(), busy: 0, trouble: String::new() };
            match live.browse(id, ask).await {
                Ok(page) => {
                    for (i, item) in page.items.iter().enumerate().filter(|(_, item)| item.refused.is_empty()) {
                        let here = (at + i as u32) as u16;
                        view.busy += usize::from(item.readings.first().is_some_and(|r| r.text != "0" && r.text != "false"));
                        match view.found.last_mut() {
                            Some((_, last)) if *last + 1 == here => *last = here,
                            _ => view.found.push((here, here)),
                        }
                    }
                }
                Err(error) => view.trouble = error.to_string(),
            }
            let over = !view.trouble.is_empty();
            if sender.send(view).await.is_err() || over {
                return;
            }
            at += count;
            tokio::time::sleep(SCAN_PAUSE).await;
        }
    });
    Ok(lines(receiver))
}

/// Which address to take into use.
#[derive(Deserialize, ToSchema)]
pub struct PathBody {
    /// 0 is the first, the others are spare.
    pub path: usize,
}

/// Takes another address of a connection into use by hand.
#[utoipa::path(responses((status = 204), (status = 502, body = Problem)))]
#[post("/api/connections/{id}/path")]
pub async fn take_path(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<PathBody>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Configure)?;
    let plant = app.live.plant();
    let connection = plant.connections.get(&id).ok_or_else(|| Problem::missing("connection"))?;
    app.live.take_path(*id, body.path).await?;
    let title = format!(
        "Ordered {} over to {}",
        connection.set.name,
        if body.path == 0 { "its first address" } else { "a spare address" }
    );
    app.live.note("connection", Some(actor), Some(*id), &title, json!({"path": body.path})).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// A point to be read.
#[derive(Deserialize, ToSchema)]
pub struct PointBody {
    pub connection: Uuid,
    #[schema(value_type = Object)]
    pub point: Own,
}

/// How a point reads.
#[derive(Serialize, ToSchema)]
pub struct PointView {
    /// With the address as it goes on the wire; empty where something is wrong.
    pub shown: String,
    /// What is wrong: field and sentence.
    pub wrong: Vec<(String, String)>,
    /// What the device holds there now, as this point reads it; empty where it could not be asked.
    pub now: String,
    /// Other ways to read the address as it is written.
    pub others: Vec<OtherView>,
}

/// Another way to read an address.
#[derive(Serialize, ToSchema)]
pub struct OtherView {
    /// As it would go on the wire.
    pub shown: String,
    /// How to write it so that only this is meant.
    pub write: String,
    pub why: String,
    /// What the device holds there now.
    pub now: String,
}

/// Most characters of a point that is read while it is typed.
const MOST_POINT: usize = 4096;

/// Reads an address while it is typed.
#[utoipa::path(responses((status = 200, body = PointView)))]
#[post("/api/points/check")]
pub async fn check_point(app: Data<App>, person: Person, body: Json<PointBody>) -> Result<Json<PointView>, Problem> {
    person.may(Action::Configure)?;
    if body.point.iter().map(|(k, v)| k.len() + v.to_string().len()).sum::<usize>() > MOST_POINT {
        return Err(Problem::field("point", "An address has at most 4,096 characters."));
    }
    let plant = app.live.plant();
    let connection = plant.connections.get(&body.connection).ok_or_else(|| Problem::missing("connection"))?;
    let (tag, shown, wrong) = read_point(&plant, connection, &body.point);
    let others = match driver(&connection.set.kind) {
        Some(driver) if plant.source(&connection.set, &tag).is_ok() => driver.other_readings(&connection.set, &tag.point),
        _ => Vec::new(),
    };
    let mut view = PointView { shown, wrong, now: String::new(), others: Vec::new() };
    if others.is_empty() {
        return Ok(Json(view));
    }
    view.now = held(&app, body.connection, &tag.point).await;
    for other in others {
        let mut point = tag.point.clone();
        point.insert("address".into(), other.write.clone().into());
        let now = held(&app, body.connection, &point).await;
        view.others.push(OtherView { shown: other.shown, write: other.write, why: other.why, now });
    }
    Ok(Json(view))
}

/// A tag at a point, where it would be read, in words, and what is wrong with it by field.
pub(super) fn read_point(plant: &Plant, connection: &Item<Connection>, point: &Own) -> (Tag, String, Vec<(String, String)>) {
    let mut tag = Tag::at(point.clone());
    let resolved = plant.source(&connection.set, &tag).map(|s| s.point.into_owned());
    let (shown, wrong) = match (resolved, driver(&connection.set.kind)) {
        (Err((field, message)), _) => (String::new(), vec![(format!("point.{field}"), message)]),
        (Ok(_), None) => (String::new(), Vec::new()),
        (Ok(point), Some(driver)) => {
            tag.point = point;
            let shown = driver.show_point(&connection.set, &tag.point).unwrap_or_default();
            (shown, Drivers.point(&connection.set, &tag))
        }
    };
    (tag, shown, wrong)
}

/// What a device holds at a point now, in words; empty where it cannot be asked.
async fn held(app: &App, connection: Uuid, point: &Own) -> String {
    let plant = app.live.plant();
    let Some(item) = plant.connections.get(&connection) else { return String::new() };
    let Some(taken) = driver(&item.set.kind).and_then(|d| d.occupies(&item.set, point)) else { return String::new() };
    let mut words = taken.space.split(' ').skip(1);
    let (unit, table) = (words.next().and_then(|u| u.parse::<u8>().ok()), words.next().unwrap_or_default());
    let ask = json!({"table": table, "start": taken.start, "count": taken.count, "unit": unit});
    let page = app.live.browse(connection, ask.as_object().cloned().unwrap_or_default()).await;
    let first = page.ok().and_then(|p| p.items.into_iter().next());
    let kind = point.get("type").and_then(|t| t.as_str()).unwrap_or("u16");
    let order = point.get("order").and_then(|o| o.as_str());
    let order = order.or_else(|| item.set.settings.get("order").and_then(|o| o.as_str())).unwrap_or("ABCD");
    first.map_or_else(String::new, |found| {
        let reading = found.readings.iter().find(|r| r.kind == kind && r.order == order);
        let reading = reading.or_else(|| found.readings.iter().find(|r| r.kind == kind));
        reading.map_or(found.refused.clone(), |r| r.text.clone())
    })
}
