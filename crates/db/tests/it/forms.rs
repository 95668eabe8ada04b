//! Databases of earlier programs: each form of the tables is filled as its program did, and opened by this one.

use crate::SHARED;
use havrel_core::alarm::{EventKind, StandardState};
use havrel_db::{Db, MIGRATIONS, alarms::EventFilter};
use rstest::rstest;
use sqlx::{Connection, Executor, PgConnection, migrate::Migrator};
use std::borrow::Cow;

/// What a program with tables of this form had stored of the configuration: the kind of a connection had another name until
/// form 5.
fn content(form: i64) -> String {
    // Form 9 has no key of cookies any more.
    let key = if form < 9 { "\\x00" } else { "" };
    let kind = if form <= 5 { "modbus_tcp" } else { "modbus" };
    let own = format!(r#"{{"name": "Extraction", "kind": "{kind}", "settings": {{"host": "127.0.0.1", "port": 5020}}}}"#);
    format!(
        "insert into plant (node, cookie_key, revision) values ('00000000-0000-0000-0000-000000000001', '{key}', 2);
         insert into place (id, rev, own) values ('00000000-0000-0000-0000-000000000002', 1, '{{\"name\": \"EX-1\"}}');
         insert into connection (id, rev, own) values ('00000000-0000-0000-0000-000000000003', 2, '{own}');
         insert into revision (number, actor, why) values (1, 'Keeper', 'one'), (2, 'Keeper', 'two');
         insert into revision_change (revision, ordinal, kind, item, no, before, after) values
             (2, 0, 'connection', '00000000-0000-0000-0000-000000000003', 0, null, '{own}');"
    )
}

/// What every form held of history, accounts and tokens.
const COMMON: &str = r#"
    insert into series (id, tag_no, kind) overriding system value values (1, 7, 5);
    insert into sample (series, at, bits, quality, flags, term, seq) values (1, 100, 4609434218613702656, 0, 0, 1, 4);
    insert into shipped (node, term, seq, arrived) values ('00000000-0000-0000-0000-000000000001', 1, 4, 105);
    insert into account (id, name, role, password) values ('00000000-0000-0000-0000-000000000009', 'Keeper', 'engineer', 'x');
    insert into alarm_standing (rule, state, sequence, active, raised_at, returned_at, value, text, acknowledged_by)
        values ('00000000-0000-0000-0000-000000000005', 1, 3, true, 90, 0, 84.6, 'Level high', ''),
               ('00000000-0000-0000-0000-000000000006', 2, 4, true, 90, 0, 84.6, 'Level high', 'Shift lead'),
               ('00000000-0000-0000-0000-000000000007', 3, 4, false, 90, 95, 79.0, 'Level high', ''),
               ('00000000-0000-0000-0000-000000000008', 0, 6, false, 90, 95, 79.0, 'Level high', 'Shift lead');
    insert into alarm_event (rule, sequence, kind, priority, occurred_at, decided_at, value, level, actor, comment, text)
        values ('00000000-0000-0000-0000-000000000005', 3, 1, 4, 90, 91, 84.6, 82, '', '', 'Level high');
"#;

/// From form 10 on programs also stored the parts of an alarm's state.
const CONDITIONS: &str = "update alarm_standing set
    condition = case when state in (1, 2) then 1 else 0 end,
    acknowledgement = case state when 1 then 1 when 2 then 2 when 3 then 1 else 0 end";

#[rstest]
#[tokio::test]
async fn a_database_of_every_earlier_form_is_opened_with_all_in_it(#[values(1, 2, 3, 4, 5, 6, 7, 8, 9, 10)] form: i64) {
    let name = format!("form_{form}");
    SHARED.cluster.ensure(&name, None).await.unwrap();
    let mut sql = PgConnection::connect_with(&SHARED.cluster.options(&name)).await.unwrap();
    let former: Vec<_> = MIGRATIONS.iter().filter(|m| m.version <= form).cloned().collect();
    let migrator = Migrator { migrations: Cow::Owned(former), ..Migrator::DEFAULT };
    migrator.run(&mut sql).await.unwrap();
    sql.execute(sqlx::AssertSqlSafe(content(form))).await.unwrap();
    sql.execute(COMMON).await.unwrap();
    if form >= 10 {
        sql.execute(CONDITIONS).await.unwrap();
    }
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let (plant, broken) = db.load_plant().await.unwrap();
    assert_eq!((broken.len(), plant.revision, plant.places.len()), (0, 2, 1));
    let kinds: Vec<_> = plant.connections.values().map(|c| c.set.kind.as_str()).collect();
    assert_eq!(kinds, ["modbus"], "a kind that a driver serves");
    let changes = db.changes_of(2).await.unwrap();
    assert_eq!(changes[0].after.as_ref().unwrap()["kind"], "modbus");
    let kept = db.raw(7, 0, 200, false, 10).await.unwrap();
    assert_eq!(kept.iter().map(|k| (k.time, k.epoch)).collect::<Vec<_>>(), [(100, 0)]);
    let node = db.identity().await.unwrap();
    let shipped = db.shipped(node).await.unwrap();
    assert_eq!((shipped.seq, shipped.arrived, shipped.epoch, db.term()), (4, 105, 0, 1));
    let mut standings = db.standings().await.unwrap();
    standings.sort_by_key(|s| s.rule);
    assert_eq!(
        standings.iter().map(|s| s.state.standard()).collect::<Vec<_>>(),
        [
            StandardState::Unacknowledged,
            StandardState::Acknowledged,
            StandardState::ReturnedUnacknowledged,
            StandardState::Normal
        ]
    );
    assert_eq!((standings[0].delay_since, standings[0].value), (None, 84.6.into()));
    let events = db.alarm_events(&EventFilter { to: 1000, ..EventFilter::ALL }, None, 10).await.unwrap();
    assert_eq!((events[0].1.kind, events[0].1.value, events[0].1.suppressed), (EventKind::Raised, 84.6.into(), false));
    assert_eq!(db.accounts().await.unwrap()[0].name, "Keeper");
    let key: Vec<u8> = sqlx::query_scalar("select cookie_key from plant").fetch_one(&mut sql).await.unwrap();
    assert!(key.is_empty(), "the key of cookies lies in no backup any more");
}
