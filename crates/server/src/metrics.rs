//! `/metrics`: how the program itself is, in the text format of Prometheus (OpenMetrics 1.0). Open to the loopback, to programs
//! that show a token, and to whoever is signed in.

use crate::{app::App, auth::Person, guard, problem::Problem};
use actix_web::{FromRequest, HttpRequest, HttpResponse, dev::Payload, http::StatusCode, web::Data};
use havrel_core::{access::Action, time::SECOND};
use havrel_link::LinkState;
use havrel_live::{Live, now};
use prometheus_client::{
    encoding::{EncodeLabelSet, text::encode},
    metrics::{family::Family, gauge::Gauge},
    registry::Registry,
};
use std::sync::{
    PoisonError,
    atomic::{AtomicU64, Ordering},
};

type Number = Gauge<f64, AtomicU64>;

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct OfConnection {
    connection: String,
}

#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct OfPriority {
    priority: u8,
}

pub(crate) async fn metrics(app: Data<App>, request: HttpRequest) -> Result<HttpResponse, Problem> {
    let here = guard::address_of(&app, request.peer_addr(), request.headers()).is_loopback();
    if !here && app.tokens.of(&app.live, &request).await.is_err() {
        Person::from_request(&request, &mut Payload::None).await?.may(Action::See)?;
    }
    let text = text(&app).map_err(|e| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, e.to_string()))?;
    Ok(HttpResponse::Ok().content_type("application/openmetrics-text; version=1.0.0; charset=utf-8").body(text))
}

/// Everything as it stands now. The registry lives for one answer: all figures are kept elsewhere.
fn text(app: &App) -> Result<String, std::fmt::Error> {
    let mut registry = Registry::with_prefix("havrel");
    let live = &app.live;
    let spool = live.spool_state();
    let plant = live.plant();
    let behind = if spool.oldest == 0 { 0.0 } else { (now() - spool.oldest) as f64 / SECOND as f64 };
    let bad: usize = live.counts().bad.values().sum();
    for (name, help, value) in [
        ("database_up", "1 while the database answers", f64::from(u8::from(live.database().ok))),
        ("parts_failed", "Parts of the program that do not run at present", live.faults().len() as f64),
        ("uptime_seconds", "Since the program started", (now() - live.started) as f64 / SECOND as f64),
        ("configuration_revision", "Newest revision of the configuration", plant.revision as f64),
        ("spool_frames", "Frames that are not in the database yet", spool.frames as f64),
        ("spool_bytes", "Bytes on disk that are not in the database yet", spool.bytes as f64),
        ("spool_room_bytes", "Bytes the spool may hold", spool.room as f64),
        ("spool_behind_seconds", "How far history lags behind", behind),
        ("spool_lost_samples", "Samples lost for lack of disk space since the start", spool.lost as f64),
        ("spool_disk_up", "1 while the spool's disk takes frames", f64::from(u8::from(spool.trouble.is_empty()))),
        ("tags", "Configured tags", plant.tags.len() as f64),
        ("tags_bad", "Tags whose quality is bad now", bad as f64),
        ("browsers", "Browsers with a live feed", app.sockets.load(Ordering::Relaxed) as f64),
        ("jobs", "Work that goes on by itself", live.jobs.running().len() as f64),
        ("resident_bytes", "Memory of the program", resident()),
    ] {
        let gauge = Number::default();
        gauge.set(value);
        registry.register(name, help, gauge);
    }
    alarms(live, &mut registry);
    connections(live, &mut registry);
    let mut text = String::new();
    encode(&mut text, &registry)?;
    Ok(text)
}

fn alarms(live: &Live, registry: &mut Registry) {
    let plant = live.plant();
    let (standing, waiting) = (Family::<OfPriority, Number>::default(), Family::<OfPriority, Number>::default());
    for priority in 1..=4 {
        standing.get_or_create(&OfPriority { priority }).set(0.0);
        waiting.get_or_create(&OfPriority { priority }).set(0.0);
    }
    let board = live.alarms.read().unwrap_or_else(PoisonError::into_inner);
    for alarm in board.standing() {
        let Some(rule) = plant.rules.get(&alarm.rule).filter(|rule| rule.set.is_told()) else { continue };
        let of = OfPriority { priority: rule.set.priority };
        standing.get_or_create(&of).inc();
        if alarm.state.waits() {
            waiting.get_or_create(&of).inc();
        }
    }
    registry.register("alarms_standing", "Alarms that are not normal", standing);
    registry.register("alarms_waiting", "Alarms that nobody has acknowledged", waiting);
}

fn connections(live: &Live, registry: &mut Registry) {
    let plant = live.plant();
    let families = [
        ("connection_up", "1 while the connection runs"),
        ("connection_requests", "Requests since the start"),
        ("connection_values", "Values since the start"),
        ("connection_errors", "Failed requests since the start"),
        ("connection_overruns", "Polls skipped because the previous one took too long"),
        ("connection_reconnects", "Reconnections since the start"),
        ("connection_round_trip_seconds", "Duration of the last request"),
    ]
    .map(|(name, help)| (name, help, Family::<OfConnection, Number>::default()));
    for (id, health) in live.health() {
        let Some(item) = plant.connections.get(&id) else { continue };
        let of = OfConnection { connection: item.set.name.clone() };
        let up = f64::from(u8::from(health.state == LinkState::Running));
        let counters = [health.requests, health.values, health.errors, health.overruns, health.reconnects];
        let values = std::iter::once(up).chain(counters.map(|n| n as f64)).chain([health.round_trip_us as f64 / 1e6]);
        for ((.., family), value) in families.iter().zip(values) {
            family.get_or_create(&of).set(value);
        }
    }
    for (name, help, family) in families {
        registry.register(name, help, family);
    }
}

/// Resident memory as Linux tells it; 0 elsewhere.
fn resident() -> f64 {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text.lines().find_map(|l| l.strip_prefix("VmRSS:"));
    let kibibytes = line.and_then(|l| l.trim().trim_end_matches(" kB").parse::<f64>().ok());
    kibibytes.unwrap_or(0.0) * 1024.0
}
