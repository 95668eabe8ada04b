//! The database layer against a real, throw-away PostgreSQL.

mod backup;
mod dispatches;
mod forms;
mod people;
mod recorders;
mod term;
mod vanish;

use havrel_core::{
    access::{Actor, Role},
    alarm::{AlarmEvent, AlarmStanding, AlarmState, EventKind, StandardState, Suppressed, Suppression},
    frame::{Frame, Gap, Note},
    number::Number,
    plant::{Connection, Edit, Kind, Op, Own, Plant, SourceCheck, Tag, edit::inverse},
    quality::{Quality, Reason},
    report::Format,
    sample::{Batch, Value},
};
use havrel_db::{
    Db,
    alarms::EventFilter,
    by_hand::ByHand,
    cluster::{Care, Cluster},
    config::{By, CommitError},
    editions::{Edition, Printed},
    history::Shipped,
    remarks::Asks,
};
use rstest::rstest;
use serde_json::json;
use std::sync::{
    LazyLock,
    atomic::{AtomicU32, Ordering},
};
use uuid::Uuid;

struct Shared {
    cluster: Cluster,
    _folder: tempfile::TempDir,
}

static SHARED: LazyLock<Shared> = LazyLock::new(|| {
    let folder = tempfile::Builder::new().prefix("havrel-db-").tempdir().unwrap();
    let cluster = Cluster::start(&folder.path().join("cluster"), Care { careless: true, port: None }).unwrap();
    Shared { cluster, _folder: folder }
});

/// An empty database of its own for each test.
async fn db() -> Db {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let name = format!("test_{}", NEXT.fetch_add(1, Ordering::Relaxed));
    SHARED.cluster.ensure(&name, None).await.unwrap();
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    db.identity().await.unwrap();
    db
}

struct AnySource;

impl SourceCheck for AnySource {
    fn connection(&self, _: &Connection) -> Vec<(String, String)> {
        Vec::new()
    }
    fn point(&self, _: &Connection, _: &Tag) -> Vec<(String, String)> {
        Vec::new()
    }
}

fn by(why: &str) -> By {
    By { account: None, actor: "Engineer".into(), why: why.into(), undoes: None }
}

fn own(value: serde_json::Value) -> Own {
    value.as_object().unwrap().clone()
}

fn create(kind: Kind, id: Uuid, value: serde_json::Value) -> Edit {
    Edit { kind, id, op: Op::Create(own(value), None), seen: None }
}

fn patch(kind: Kind, id: Uuid, value: serde_json::Value) -> Edit {
    Edit { kind, id, op: Op::Patch(own(value)), seen: None }
}

#[tokio::test]
async fn edits_are_stored_read_back_and_undone() {
    let db = db().await;
    let (place, tag) = (Uuid::now_v7(), Uuid::now_v7());
    let edits =
        [create(Kind::Place, place, json!({"name": "EX-1"})), create(Kind::Tag, tag, json!({"name": "Level", "place": place}))];
    let plant = db.commit(&Plant::default(), &edits, &by("Built EX-1"), AnySource).await.unwrap();
    assert_eq!((plant.revision, plant.tags[&tag].no), (1, 1));
    let (read, broken) = db.load_plant().await.unwrap();
    assert!(broken.is_empty());
    assert_eq!(read.tags[&tag].set, plant.tags[&tag].set);

    let changes = db.changes_of(1).await.unwrap();
    let undo = By { undoes: Some(1), ..by("Undid revision 1") };
    let plant = db.commit(&plant, &inverse(&changes), &undo, AnySource).await.unwrap();
    assert!(plant.tags.is_empty() && plant.revision == 2);
    let again = db.commit(&plant, &inverse(&changes), &undo, AnySource).await;
    assert!(matches!(again, Err(CommitError::Refused(_))), "{again:?}");
    let list = db.revisions(i64::MAX, 10).await.unwrap();
    assert_eq!((list[0].undoes, list[1].changes), (Some(1), 2));
    assert_eq!(db.journal(None, Some("configuration"), None, 10).await.unwrap().len(), 2);
}

#[tokio::test]
async fn two_edits_at_once_come_one_after_the_other_and_both_stay() {
    let db = db().await;
    let place = Uuid::now_v7();
    let start =
        db.commit(&Plant::default(), &[create(Kind::Place, place, json!({"name": "A"}))], &by("one"), AnySource).await.unwrap();
    let (one, two) = ([patch(Kind::Place, place, json!({"note": "n"}))], [patch(Kind::Place, place, json!({"name": "B"}))]);
    let (why_one, why_two) = (by("note"), by("name"));
    let (a, b) = tokio::join!(db.commit(&start, &one, &why_one, AnySource), db.commit(&start, &two, &why_two, AnySource));
    let mut numbers = [a.unwrap().revision, b.unwrap().revision];
    numbers.sort_unstable();
    assert_eq!(numbers, [2, 3]);
    let (plant, _) = db.load_plant().await.unwrap();
    assert_eq!((plant.places[&place].set.name.as_str(), plant.places[&place].set.note.as_str()), ("B", "n"));
    let mut caught_up = start;
    for (number, changes) in db.changes_after(1).await.unwrap() {
        caught_up = caught_up.absorb(number, &changes).unwrap();
    }
    assert_eq!(caught_up.places[&place].set, plant.places[&place].set);
}

#[tokio::test]
async fn a_refused_edit_leaves_no_trace() {
    let db = db().await;
    let edits =
        [create(Kind::Place, Uuid::now_v7(), json!({"name": "A"})), create(Kind::Place, Uuid::now_v7(), json!({"name": ""}))];
    let refused = db.commit(&Plant::default(), &edits, &by("two"), AnySource).await;
    assert!(matches!(refused, Err(CommitError::Refused(p)) if p.len() == 1 && p[0].edit == 1));
    assert_eq!(db.load_plant().await.unwrap().0.revision, 0);
    assert!(db.revisions(i64::MAX, 10).await.unwrap().is_empty());
}

#[tokio::test]
async fn the_bell_rings_at_a_revision() {
    let db = db().await;
    let mut bell = db.bell().await.unwrap();
    db.commit(&Plant::default(), &[create(Kind::Place, Uuid::now_v7(), json!({"name": "A"}))], &by("one"), AnySource)
        .await
        .unwrap();
    tokio::time::timeout(std::time::Duration::from_secs(10), bell.ring()).await.unwrap().unwrap();
}

fn frame(seq: u64, values: &[(u32, i64, f64)]) -> Frame {
    let mut batch = Batch::default();
    for &(tag, at, value) in values {
        batch.push(tag, at, Quality::GOOD, 0, &Value::F64(value));
    }
    Frame { batch, ..Frame::empty(Uuid::from_u128(1), 1, 0, seq, 1000 + seq as i64) }
}

/// An alarm comes.
fn raised(rule: Uuid, sequence: u32, at: i64) -> AlarmEvent {
    AlarmEvent {
        rule,
        sequence,
        kind: EventKind::Raised,
        priority: 3,
        occurred_at: at,
        decided_at: at + 1,
        value: 2.0.into(),
        limit: 1.5,
        suppressed: false,
        first_out: false,
        until: None,
        actor: String::new(),
        comment: String::new(),
        text: format!("event {sequence}"),
        values: Vec::new(),
    }
}

#[tokio::test]
async fn a_frame_sent_twice_is_stored_once() {
    let db = db().await;
    let rule = Uuid::now_v7();
    let mut one = frame(1, &[(7, 10, 1.0), (7, 20, 2.0), (7, 20, 2.5)]);
    one.events.push(raised(rule, 1, 10));
    let state = AlarmState::of_standard(StandardState::Unacknowledged).unwrap();
    one.states.push(AlarmStanding { state: state.clone(), sequence: 1, ..AlarmStanding::quiet(rule) });
    let two = frame(2, &[(7, 30, 3.0)]);
    db.append(&[one.clone()]).await.unwrap();
    // The answer to the first got lost: both are sent.
    db.append(&[one, two]).await.unwrap();
    let kept = db.raw(7, 0, 100, false, 100).await.unwrap();
    assert_eq!(
        kept.iter().map(|k| (k.time, k.value.clone().unwrap())).collect::<Vec<_>>(),
        [(10, Value::F64(1.0)), (20, Value::F64(2.5)), (30, Value::F64(3.0)),]
    );
    let all = EventFilter::ALL;
    assert_eq!(db.alarm_events(&all, None, 10).await.unwrap().len(), 1);
    assert_eq!(db.standings().await.unwrap()[0].state, state);
    assert_eq!(db.shipped(Uuid::from_u128(1)).await.unwrap(), Shipped { seq: 2, arrived: 1002, epoch: 0 });
}

#[rstest]
#[case(Value::Bool(true))]
#[case(Value::I64(-5))]
#[case(Value::U64(u64::MAX))]
#[case(Value::F32(12.1))]
#[case(Value::F64(-0.0))]
#[case(Value::Text("KX-2611-0184".into()))]
#[case(Value::Text(String::new()))]
#[case(Value::Text("a␉b␊c\\d␍\\N".into()))]
#[case(Value::Text("\\.".into()))]
#[tokio::test]
async fn every_type_comes_back_as_it_was(#[case] value: Value) {
    let db = db().await;
    let mut one = frame(1, &[]);
    one.batch.push(9, 5, Quality::GOOD, 3, &value);
    one.batch.push_quality(9, 6, Quality::of(Reason::NoAnswer));
    one.gaps.push(Gap { from: 7, to: 9, reason: "stopped".into() });
    db.append(&[one]).await.unwrap();
    let kept = db.raw(9, 0, 10, false, 10).await.unwrap();
    assert_eq!((kept[0].value.clone(), kept[0].flags), (Some(value), 3));
    assert_eq!((kept[1].value.clone(), kept[1].quality), (None, Quality::of(Reason::NoAnswer)));
    assert_eq!(db.unrecorded(8, 20).await.unwrap().len(), 1);
}

/// What a picture shows of a few samples: time and value; nothing where it is not known from there on.
async fn shown(db: &Db, tag: u32, from: i64, to: i64) -> Vec<(i64, Option<f64>)> {
    let picture = db.pixels(&[tag], from, to, 1000).await.unwrap().remove(0);
    picture.offset.into_iter().map(|offset| from + offset).zip(picture.last).collect()
}

#[tokio::test]
async fn a_period_of_many_pages_and_types_is_answered_whole_and_in_order() {
    let db = db().await;
    let count = 45_000;
    let mut one = frame(1, &[]);
    for i in 0..count {
        match i % 3 {
            0 => one.batch.push(7, i, Quality::GOOD, 0, &Value::F64(i as f64)),
            1 => one.batch.push(7, i, Quality::GOOD, 0, &Value::I64(i)),
            _ => one.batch.push_quality(7, i, Quality::of(Reason::NoAnswer)),
        }
    }
    db.append(&[one]).await.unwrap();
    let asked = db.spans(&[7, 9, 7], 0, count, 3, count).await.unwrap();
    assert_eq!((asked[0].clone(), asked[1][0].count), (asked[2].clone(), 0), "in the order in which they were asked for");
    let whole = &asked[0];
    assert_eq!(whole.iter().map(|s| s.count).collect::<Vec<_>>(), [10_000; 3]);
    assert_eq!(whole[2].last.map(Number::float), Some((count - 2) as f64));
    assert!(whole.iter().all(|s| (s.good - 2.0 / 3.0).abs() < 1e-3), "{whole:?}");
    let picture = db.pixels(&[7], 0, count, 100).await.unwrap().remove(0);
    assert!(picture.offset.len() <= 201 && picture.offset.windows(2).all(|w| w[0] < w[1]));
    assert_eq!(picture.maximum.iter().flatten().copied().fold(0.0, f64::max), (count - 2) as f64);
}

#[tokio::test]
async fn the_value_that_holds_at_the_start_comes_first() {
    let db = db().await;
    db.append(&[frame(1, &[(7, 10, 1.0), (7, 20, 2.0), (7, 90, 9.0)])]).await.unwrap();
    assert_eq!(shown(&db, 7, 50, 100).await, [(50, Some(2.0)), (90, Some(9.0))]);
    let at = db.at(&[8, 7], 89).await.unwrap();
    assert_eq!((at[0].clone(), at[1].as_ref().map(|k| k.time)), (None, Some(20)));
}

#[tokio::test]
async fn the_newest_of_each_tag_is_its_last_value_and_how_it_was_told_last() {
    let db = db().await;
    let mut one = frame(1, &[(7, 10, 1.0), (7, 20, 2.0), (8, 15, 3.0)]);
    one.batch.push(9, 30, Quality::GOOD, 0, &Value::Text("KX".into()));
    one.batch.push_quality(8, 40, Quality::of(Reason::NoAnswer));
    db.append(&[one]).await.unwrap();
    let newest = db.newest().await.unwrap();
    let seen: Vec<_> = newest.iter().map(|(tag, k)| (*tag, k.value.clone(), k.time, k.quality.reason())).collect();
    let wanted = [
        (7, Some(Value::F64(2.0)), 20, Reason::Fine),
        (8, Some(Value::F64(3.0)), 15, Reason::NoAnswer),
        (9, Some(Value::Text("KX".into())), 30, Reason::Fine),
    ];
    assert_eq!(seen, wanted);
}

#[tokio::test]
async fn an_edition_is_kept_bit_for_bit() {
    let db = db().await;
    let (id, report) = (Uuid::now_v7(), Uuid::now_v7());
    let edition = Edition { id, report, title: "Shift".into(), made_at: 0, made_by: "Shift lead".into(), from: 1, to: 2 };
    let [html, csv, json, paper] = ["<p>é</p>", "a,b\r\n", "[1]", "{}"].map(str::to_owned);
    let printed = Printed { html, csv, json, xlsx: b"PK\0".to_vec(), paper };
    db.keep_edition(&edition, &printed).await.unwrap();
    // Sent again after a restart, it stays as it is.
    db.keep_edition(&edition, &Printed::default()).await.unwrap();
    // The first PDF that is kept stays.
    assert_eq!(db.edition_in(id, Format::Pdf).await.unwrap(), Some(Vec::new()));
    assert_eq!(db.keep_pdf(edition.id, b"one").await.unwrap(), b"one");
    assert_eq!(db.keep_pdf(edition.id, b"two").await.unwrap(), b"one");
    for (format, bytes) in [(Format::Html, printed.html.as_bytes()), (Format::Xlsx, b"PK\0"), (Format::Pdf, b"one")] {
        assert_eq!(db.edition_in(id, format).await.unwrap().as_deref(), Some(bytes));
    }
    assert_eq!((db.edition_in(report, Format::Csv).await.unwrap(), db.edition(report).await.unwrap()), (None, None));
    assert_eq!(db.edition(id).await.unwrap().map(|found| (found.report, found.title)), Some((report, "Shift".into())));
    assert_eq!(db.editions(report).await.unwrap()[0].id, id);
}

#[tokio::test]
async fn where_nothing_was_recorded_no_value_holds_on() {
    let db = db().await;
    let mut one = frame(1, &[(7, 10, 1.0), (7, 90, 2.0)]);
    one.gaps.push(Gap { from: 20, to: 80, reason: "stopped".into() });
    db.append(&[one]).await.unwrap();
    assert_eq!(shown(&db, 7, 0, 100).await, [(10, Some(1.0)), (21, None), (90, Some(2.0))]);
    // What lies within the span, the last sample before a stop or one loaded later, does not hold beyond it either.
    db.append(&[frame(2, &[(7, 50, 1.5)])]).await.unwrap();
    assert_eq!(shown(&db, 7, 0, 100).await, [(10, Some(1.0)), (50, Some(1.5)), (51, None), (90, Some(2.0))]);
}

#[tokio::test]
async fn a_tag_that_changes_its_type_keeps_one_history() {
    let db = db().await;
    let mut one = frame(1, &[(7, 10, 1.5)]);
    one.batch.push(7, 20, Quality::GOOD, 0, &Value::U64(3));
    one.batch.push(7, 30, Quality::GOOD, 0, &Value::Text("MV".into()));
    db.append(&[one]).await.unwrap();
    let kept = db.raw(7, 0, 100, false, 10).await.unwrap();
    let values: Vec<_> = kept.into_iter().map(|k| k.value.unwrap()).collect();
    assert_eq!(values, [Value::F64(1.5), Value::U64(3), Value::Text("MV".into())]);
    let held = db.raw(7, 25, 28, true, 10).await.unwrap();
    assert_eq!(held[0].value, Some(Value::U64(3)));
}

#[tokio::test]
async fn the_journal_is_read_page_by_page() {
    let db = db().await;
    for n in 0..5 {
        let mut one = frame(n + 1, &[]);
        one.notes.push(Note {
            at: 1_700_000_000_123_456_789 + n as i64,
            kind: if n == 2 { "write" } else { "system" }.into(),
            account: None,
            actor: "Havrel".into(),
            subject: None,
            title: format!("line {n}"),
            detail: json!({"n": n}).to_string(),
        });
        db.append(&[one.clone()]).await.unwrap();
        // The answer got lost: sent again it stands once.
        db.append(&[one]).await.unwrap();
    }
    let first = db.journal(None, None, None, 2).await.unwrap();
    assert_eq!(first.iter().map(|e| e.title.as_str()).collect::<Vec<_>>(), ["line 4", "line 3"]);
    let next = db.journal(Some(first[1].id), None, None, 10).await.unwrap();
    assert_eq!((next.len(), next[0].at), (3, 1_700_000_000_123_456_000));
    assert_eq!(db.journal(None, Some("write"), None, 10).await.unwrap()[0].detail, json!({"n": 2}));
}

#[tokio::test]
async fn what_is_known_of_an_alarm_comes_back_with_all_digits() {
    let (db, mut sql) = vanish::with_sql().await;
    let rule = Uuid::now_v7();
    let mut one = frame(1, &[]);
    let event = AlarmEvent {
        kind: EventKind::Shelved,
        value: u64::MAX.into(),
        suppressed: true,
        first_out: false,
        until: Some(99),
        actor: "Shift lead".into(),
        ..raised(rule, 1, 10)
    };
    let mut state = AlarmState::of_standard(StandardState::LatchedUnacknowledged).unwrap();
    let shelved = Suppressed { by: "Shift lead".into(), since: 7, until: Some(99), reason: "“cleaning”".into() };
    state.suppressions = [(Suppression::Shelved, shelved), (Suppression::ByDesign, Suppressed::default())].into();
    let standing = AlarmStanding { state, sequence: 1, value: i64::MIN.into(), ..AlarmStanding::quiet(rule) };
    one.events.push(event.clone());
    one.states.push(standing.clone());
    db.append(&[one]).await.unwrap();
    let all = EventFilter::ALL;
    assert_eq!(db.alarm_events(&all, None, 10).await.unwrap()[0].1, event);
    assert_eq!(db.standings().await.unwrap(), [standing]);
    // A later program may know more kinds: named, and not taken for another one.
    sqlx::query("update alarm_event set kind = 77").execute(&mut sql).await.unwrap();
    let error = db.alarm_events(&all, None, 10).await.unwrap_err();
    assert!(error.to_string().contains("kind of alarm event with the number 77"), "{error}");
}

#[tokio::test]
async fn alarm_events_are_found_by_rule_time_and_page() {
    let db = db().await;
    let [a, b] = [Uuid::now_v7(), Uuid::now_v7()];
    let mut one = frame(1, &[]);
    for (i, rule) in [a, b, a].into_iter().enumerate() {
        one.events.push(raised(rule, i as u32 + 1, i as i64 * 10));
    }
    db.append(&[one]).await.unwrap();
    let texts = |found: Vec<(i64, AlarmEvent)>| found.into_iter().map(|(_, e)| e.text).collect::<Vec<_>>();
    let all = EventFilter::ALL;
    assert_eq!(texts(db.alarm_events(&all, None, 10).await.unwrap()), ["event 3", "event 2", "event 1"]);
    assert_eq!(
        texts(db.alarm_events(&EventFilter { rules: Some(vec![a]), ..all.clone() }, None, 10).await.unwrap()),
        ["event 3", "event 1"]
    );
    assert_eq!(texts(db.alarm_events(&EventFilter { from: 10, to: 15, ..all.clone() }, None, 10).await.unwrap()), ["event 2"]);
    // The one that holds at the beginning of a period comes with those in it.
    let turns = db.alarm_turns(&[a, b], 15, 30, 10).await.unwrap();
    assert_eq!(turns.iter().map(|t| (t.rule, t.at)).collect::<Vec<_>>(), [(a, 0), (b, 10), (a, 20)]);
    let newest = db.alarm_events(&all, None, 1).await.unwrap();
    assert_eq!(texts(db.alarm_events(&all, Some(newest[0].0), 10).await.unwrap()), ["event 2", "event 1"]);
}

#[tokio::test]
async fn a_cluster_finds_its_data_again() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().unwrap();
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let place = folder.path().join("deep/cluster");
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let care = Care { careless: true, port: Some(port) };
    let first = Cluster::start(&place, care).unwrap();
    first.ensure("plant", None).await.unwrap();
    let identity = Db::open(first.options("plant")).await.unwrap().identity().await.unwrap();
    drop(first);
    let second = Cluster::start(&place, care).unwrap();
    second.ensure("plant", None).await.unwrap();
    second.ensure("copy", Some("plant")).await.unwrap();
    assert_eq!(Db::open(second.options("plant")).await.unwrap().identity().await.unwrap(), identity);
    assert_eq!(Db::open(second.options("copy")).await.unwrap().identity().await.unwrap(), identity);
    assert_eq!(
        second.url("plant"),
        format!("postgres://havrel:{}@127.0.0.1:{port}/plant", second.url("x").split([':', '@']).nth(2).unwrap())
    );
    drop(second);
    std::fs::remove_dir_all(place).unwrap();
}

#[tokio::test]
async fn notes_are_found_by_tag_and_time_and_removed_by_whom_they_belong_to() {
    let db = db().await;
    let (tag, other) = (Uuid::now_v7(), Uuid::now_v7());
    let writer = Actor { account: Uuid::now_v7(), name: "Operator".into(), role: Role::Operator };
    let ids: Vec<Uuid> = (0..3).map(|_| Uuid::now_v7()).collect();
    for (id, (tag, at)) in ids.iter().zip([(tag, 20), (tag, 10), (other, 15)]) {
        db.add_note(*id, tag, at, &format!("at {at}"), &writer).await.unwrap();
    }
    let found = db.notes(&[tag], 0, 100).await.unwrap();
    assert_eq!(found.iter().map(|n| n.text.as_str()).collect::<Vec<_>>(), ["at 10", "at 20"]);
    assert_eq!(db.notes(&[tag, other], 11, 15).await.unwrap().len(), 1);
    assert_eq!(db.remove_note(ids[0], Some(Uuid::now_v7())).await.unwrap(), None);
    assert_eq!(db.remove_note(ids[0], Some(writer.account)).await.unwrap(), Some((tag, "at 20".into())));
    assert!(db.remove_note(ids[1], None).await.unwrap().is_some());
    assert!(db.notes(&[tag], 0, 100).await.unwrap().is_empty());
}

#[tokio::test]
async fn a_kept_trend_is_replaced_by_one_of_the_same_name() {
    let db = db().await;
    let by = Actor { account: Uuid::now_v7(), name: "Operator".into(), role: Role::Operator };
    let first = db.keep_question(Asks::Trend, "Leach vessel", &json!({"span": 60}), &by, None).await.unwrap().unwrap();
    let other = Actor { account: Uuid::now_v7(), ..by.clone() };
    // Not unasked, and not by somebody else who may replace only their own.
    assert_eq!(db.keep_question(Asks::Trend, "leach VESSEL", &json!({}), &by, None).await.unwrap(), None);
    assert_eq!(db.keep_question(Asks::Trend, "leach VESSEL", &json!({}), &other, Some(Some(other.account))).await.unwrap(), None);
    let again =
        db.keep_question(Asks::Trend, "leach VESSEL", &json!({"span": 90}), &by, Some(Some(by.account))).await.unwrap().unwrap();
    assert_eq!(first, again);
    let kept = db.kept_questions(Asks::Trend).await.unwrap();
    assert_eq!((kept.len(), kept[0].name.as_str(), &kept[0].question), (1, "leach VESSEL", &json!({"span": 90})));
    assert_eq!(db.forget_question(Asks::Trend, first, Some(Uuid::now_v7())).await.unwrap(), None);
    assert_eq!(db.forget_question(Asks::Trend, first, Some(by.account)).await.unwrap().as_deref(), Some("leach VESSEL"));
}

#[tokio::test]
async fn what_is_set_by_hand_comes_back_as_it_was() {
    let db = db().await;
    let digits = "12345678901234567890";
    let values = [Value::U64(u64::MAX), Value::I64(-9_007_199_254_740_995), Value::Text(digits.into()), Value::Bool(true)];
    for (since, value) in values.iter().enumerate() {
        let hand = ByHand {
            tag: Uuid::now_v7(),
            value: value.clone(),
            reason: "Trial".into(),
            account: None,
            actor: "Plant engineer".into(),
            since: since as i64,
            until: None,
            keeps: true,
        };
        db.keep_hand(&hand).await.unwrap();
    }
    let kept: Vec<Value> = db.hands().await.unwrap().into_iter().map(|hand| hand.value).collect();
    assert_eq!(kept, values);
}
