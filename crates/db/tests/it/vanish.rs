//! What was acknowledged must not vanish, whatever the database refuses and whoever goes away in the middle.

use crate::{SHARED, db, frame, shown};
use havrel_core::{
    frame::{ClockStep, Frame},
    quality::Quality,
    sample::Value,
};
use havrel_db::{Db, DbError, answers::ClockEpoch};
use rstest::rstest;
use sqlx::{Connection, Executor, PgConnection};
use std::{
    sync::atomic::{AtomicU32, Ordering},
    time::Duration,
};

/// A database of its own, and a plain connection to it.
pub(crate) async fn with_sql() -> (Db, PgConnection) {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let name = format!("vanish_{}", NEXT.fetch_add(1, Ordering::Relaxed));
    SHARED.cluster.ensure(&name, None).await.unwrap();
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    db.identity().await.unwrap();
    let sql = PgConnection::connect_with(&SHARED.cluster.options(&name)).await.unwrap();
    (db, sql)
}

fn many(seq: u64, count: u32) -> Frame {
    let values: Vec<_> = (0..count).map(|i| (7, i64::from(i), f64::from(i))).collect();
    frame(seq, &values)
}

/// Whoever asks may go away at any moment: the connection that was in the middle of an answer must not give it to the next.
#[tokio::test]
async fn a_call_that_is_dropped_half_way_spoils_no_other() {
    let db = db().await;
    db.append(&[frame(1, &[(7, 10, 1.0), (8, 20, 2.0)])]).await.unwrap();
    for round in 0..60 {
        let (one, two) = (db.clone(), db.clone());
        let storing = tokio::spawn(async move { one.append(&[many(2, 20_000)]).await });
        let asking = tokio::spawn(async move { two.raw(7, 0, 100_000, true, 100_000).await });
        tokio::time::sleep(Duration::from_micros(300 * round)).await;
        storing.abort();
        asking.abort();
        let answers = futures_util::future::join_all((0..8).map(|_| db.raw(8, 0, 100, false, 10))).await;
        for answer in answers {
            assert_eq!(answer.unwrap().len(), 1, "round {round}");
        }
        assert!(!db.has_accounts().await.unwrap());
    }
    // The frame that was given up so often is stored at last, whole and once.
    db.append(&[many(2, 20_000)]).await.unwrap();
    assert_eq!(db.raw(7, 0, 100_000, false, 100_000).await.unwrap().len(), 20_000);
}

#[rstest]
#[case::read_only("alter database {} set default_transaction_read_only = on", false)]
#[case::no_right(
    "revoke insert on sample from public; create rule none as on insert to sample do instead nothing; \
                  alter table sample rename to gone",
    false
)]
#[case::a_value_it_cannot_take("alter table sample add constraint odd check (bits <> 0)", true)]
#[tokio::test]
async fn what_is_the_databases_own_trouble_is_told_from_what_the_data_holds(#[case] trouble: &str, #[case] content: bool) {
    let (db, mut sql) = with_sql().await;
    let name: String = sqlx::query_scalar("select current_database()").fetch_one(&mut sql).await.unwrap();
    sql.execute(sqlx::AssertSqlSafe(trouble.replace("{}", &name))).await.unwrap();
    let refused = db.append(&[frame(1, &[(7, 1, 0.0)])]).await.unwrap_err();
    assert_eq!(matches!(refused, DbError::Content(_)), content, "{refused}");
    let tried = db.try_out(&frame(1, &[(7, 1, 0.0)])).await.unwrap_err();
    assert_eq!(matches!(tried, DbError::Content(_)), content, "{tried}");
}

#[tokio::test]
async fn trying_out_leaves_nothing_behind() {
    let db = db().await;
    db.try_out(&many(1, 10)).await.unwrap();
    assert!(db.raw(7, 0, 100, true, 100).await.unwrap().is_empty());
    db.append(&[many(1, 10)]).await.unwrap();
    assert_eq!(db.raw(7, 0, 100, true, 100).await.unwrap().len(), 10);
}

#[tokio::test]
async fn while_it_is_known_to_be_away_nobody_waits() {
    let db = db().await;
    db.set_away(true);
    let began = std::time::Instant::now();
    assert!(matches!(db.has_accounts().await, Err(DbError::Away(_))));
    assert!(matches!(db.pixels(&[7], 0, 1, 10).await, Err(DbError::Away(_))));
    assert!(began.elapsed() < Duration::from_secs(1));
    db.ping().await.unwrap();
    db.set_away(false);
    assert!(!db.has_accounts().await.unwrap());
}

/// The clock is set back by 50: the same instants are lived twice.
#[tokio::test]
async fn an_hour_lived_twice_is_kept_twice() {
    let db = db().await;
    let at = |epoch, seq, values: &[(u32, i64, f64)]| Frame { epoch, ..frame(seq, values) };
    let mut again = at(1, 2, &[(7, 60, 6.5), (7, 75, 7.5)]);
    again.steps.push(ClockStep { epoch: 1, at: 55, by: -50 });
    again.batch.push(7, 80, Quality::GOOD, 0, &Value::F64(8.5));
    db.append(&[at(0, 1, &[(7, 10, 1.0), (7, 60, 6.0), (7, 80, 8.0), (7, 100, 10.0)]), again]).await.unwrap();
    let kept = db.raw(7, 0, 200, false, 100).await.unwrap();
    let all: Vec<_> = kept.iter().map(|k| (k.time, k.epoch, k.value.as_ref().and_then(Value::number).unwrap())).collect();
    let wanted = [(10, 0, 1.0), (60, 0, 6.0), (60, 1, 6.5), (75, 1, 7.5), (80, 0, 8.0), (80, 1, 8.5), (100, 0, 10.0)];
    assert_eq!(all, wanted, "none is overwritten");
    // Pictures and statistics show what came last of each instant.
    let of = |shown: Vec<(i64, Option<f64>)>| shown.into_iter().map(|(at, value)| (at, value.unwrap())).collect::<Vec<_>>();
    assert_eq!(of(shown(&db, 7, 0, 200).await), [(10, 1.0), (60, 6.5), (75, 7.5), (80, 8.5)]);
    assert_eq!(db.clock_steps(90, 200).await.unwrap(), [ClockEpoch { node: 1, epoch: 1, at: 55, by: -50, until: 105 }]);
    assert!(db.clock_steps(106, 200).await.unwrap().is_empty());
    // The clock is put right at 82, before the hour was lived to its end again: what follows is what was there before.
    let mut right = at(2, 3, &[(7, 133, 11.0)]);
    right.steps.push(ClockStep { epoch: 2, at: 132, by: 50 });
    db.append(&[right]).await.unwrap();
    let wanted = [(10, 1.0), (60, 6.5), (75, 7.5), (80, 8.5), (100, 10.0), (133, 11.0)];
    assert_eq!(of(shown(&db, 7, 0, 200).await), wanted);
}

#[tokio::test]
async fn values_to_keep_and_delays_come_back() {
    let (db, _) = with_sql().await;
    let mut one = frame(1, &[]);
    one.keeps.push(havrel_core::frame::Keep { tag: 7, at: 3, value: "12.5".into() });
    let rule = uuid::Uuid::from_u128(5);
    let standing = havrel_core::alarm::AlarmStanding { delay_since: Some(-7), ..havrel_core::alarm::AlarmStanding::quiet(rule) };
    one.states.push(standing.clone());
    db.append(&[one]).await.unwrap();
    assert_eq!(db.kept_values().await.unwrap(), [(7, 3, serde_json::json!(12.5))]);
    assert_eq!(db.standings().await.unwrap(), [standing]);
}
