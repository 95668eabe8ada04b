//! The term of the plant: what a machine may still store after another took over, and which of two samples stays.

use crate::{AnySource, SHARED, by, create, db, shown};
use havrel_core::{
    frame::{Frame, Gap},
    plant::{Kind, Plant},
    quality::Quality,
    sample::{Batch, Value},
};
use havrel_db::{Db, DbError, config::CommitError};
use rstest::rstest;
use serde_json::json;
use sqlx::{Connection, Executor, PgConnection};
use uuid::Uuid;

const FIRST: Uuid = Uuid::from_u128(1);
const SECOND: Uuid = Uuid::from_u128(2);

fn frame(node: Uuid, term: u32, seq: u64, samples: &[(i64, f64)]) -> Frame {
    let mut batch = Batch::default();
    samples.iter().for_each(|&(at, value)| batch.push(7, at, Quality::GOOD, 0, &Value::F64(value)));
    Frame { batch, ..Frame::empty(node, term, 0, seq, 1000 + seq as i64) }
}

/// Two machines with one database.
async fn two(name: &str) -> (Db, Db) {
    SHARED.cluster.ensure(name, None).await.unwrap();
    let first = Db::open(SHARED.cluster.options(name)).await.unwrap();
    first.identity().await.unwrap();
    (first, Db::open(SHARED.cluster.options(name)).await.unwrap())
}

#[tokio::test]
async fn a_machine_whose_term_is_over_stores_nothing_and_edits_nothing() {
    let (first, second) = two("term_over").await;
    assert_eq!((first.term(), second.term()), (1, 1));
    first.append(&[frame(FIRST, 1, 1, &[(10, 1.0)])]).await.unwrap();
    assert_eq!(second.begin_term().await.unwrap(), 2);
    let late = frame(FIRST, 1, 2, &[(20, 2.0)]);
    assert!(matches!(first.append(std::slice::from_ref(&late)).await, Err(DbError::OldTerm { held: 1, plant: 2 })));
    let edit = [create(Kind::Place, Uuid::from_u128(9), json!({"name": "EX-1"}))];
    let refused = first.commit(&Plant::default(), &edit, &by("late"), AnySource).await;
    assert!(matches!(refused, Err(CommitError::Db(DbError::OldTerm { .. }))));
    assert_eq!((first.raw(7, 0, 100, false, 10).await.unwrap().len(), first.shipped(FIRST).await.unwrap().seq), (1, 1));
    // What it had recorded before is worth keeping: whoever is on duty stores it.
    second.append(&[late]).await.unwrap();
    second.commit(&Plant::default(), &edit, &by("in time"), AnySource).await.unwrap();
    assert_eq!(second.raw(7, 0, 100, false, 10).await.unwrap().len(), 2);
}

#[tokio::test]
async fn two_nodes_that_begin_at_the_same_moment_get_numbers_of_their_own() {
    let (first, _) = two("same_moment").await;
    let connect = async || PgConnection::connect_with(&SHARED.cluster.options("same_moment")).await.unwrap();
    let (mut other, mut onlooker) = (connect().await, connect().await);
    other.execute("begin").await.unwrap();
    let taken = "insert into shipped (node, term, seq, arrived, no) values ('00000000-0000-0000-0000-000000000009', 0, 0, 0, 1)";
    other.execute(taken).await.unwrap();
    let storing = tokio::spawn(async move { first.append(&[frame(FIRST, 1, 1, &[(10, 1.0)])]).await });
    // It waits for what becomes of the number.
    let waits = "select exists (select from pg_stat_activity where datname = 'same_moment' and wait_event_type = 'Lock')";
    while !sqlx::query_scalar::<_, bool>(waits).fetch_one(&mut onlooker).await.unwrap() {
        tokio::task::yield_now().await;
    }
    other.execute("commit").await.unwrap();
    storing.await.unwrap().unwrap();
    let find = "select array_agg(no order by no) from shipped";
    assert_eq!(sqlx::query_scalar::<_, Vec<i16>>(find).fetch_one(&mut onlooker).await.unwrap(), [1, 2]);
}

#[tokio::test]
async fn imports_that_wait_leave_connections_for_the_own_frames() {
    let (db, _) = two("imports_wait").await;
    db.append(&[frame(SECOND, 1, 1, &[(10, 1.0)])]).await.unwrap();
    let connect = async || PgConnection::connect_with(&SHARED.cluster.options("imports_wait")).await.unwrap();
    let (mut other, mut onlooker) = (connect().await, connect().await);
    other.execute("begin").await.unwrap();
    other.execute("select from shipped where seq = 1 for update").await.unwrap();
    let import = |n: u64| {
        let db = db.clone();
        tokio::spawn(async move { db.import(&[frame(SECOND, 1, 2 + n, &[(20 + n as i64, 1.0)])]).await })
    };
    let imports: Vec<_> = (0..6).map(import).collect();
    let waits = "select exists (select from pg_stat_activity where datname = 'imports_wait' and wait_event_type = 'Lock')";
    while !sqlx::query_scalar::<_, bool>(waits).fetch_one(&mut onlooker).await.unwrap() {
        tokio::task::yield_now().await;
    }
    for seq in 1..=20 {
        db.append(&[frame(FIRST, 1, seq, &[(seq as i64, 1.0)])]).await.unwrap();
    }
    other.execute("commit").await.unwrap();
    for import in imports {
        import.await.unwrap().unwrap();
    }
}

#[tokio::test]
async fn a_takeover_waits_for_what_is_just_being_stored() {
    let (first, second) = two("term_race").await;
    let frames: Vec<Frame> = (1..=20).map(|seq| frame(FIRST, 1, seq, &[(seq as i64, 1.0)])).collect();
    let storing = async {
        for frame in &frames {
            if first.append(std::slice::from_ref(frame)).await.is_err() {
                return frame.seq - 1;
            }
        }
        20
    };
    let (stored, term) = tokio::join!(storing, second.begin_term());
    assert_eq!(term.unwrap(), 2);
    // Every frame is stored whole or refused, and what counts as stored is there.
    assert_eq!(first.shipped(FIRST).await.unwrap().seq, stored);
    assert_eq!(first.raw(7, 0, 100, false, 100).await.unwrap().len() as u64, stored);
}

/// Of two samples of one time the one of the later (term, node, seq) stays, in whichever order they come.
#[rstest]
#[case::of_a_node_the_later_frame((FIRST, 1, 1), (FIRST, 1, 2))]
#[case::the_later_term_though_its_frames_count_from_one((FIRST, 1, 500), (SECOND, 2, 1))]
#[case::in_one_term_the_later_node((FIRST, 1, 500), (SECOND, 1, 1))]
#[tokio::test]
async fn the_later_sample_stays(
    #[case] earlier: (Uuid, u32, u64),
    #[case] later: (Uuid, u32, u64),
    #[values(false, true)] turned: bool,
) {
    let db = db().await;
    // The first node has the first number.
    db.append(&[frame(FIRST, 0, 1, &[(1, 0.0)])]).await.unwrap();
    let of = |(node, term, seq): (Uuid, u32, u64), value| frame(node, term, seq, &[(50, value)]);
    let mut frames = vec![of(earlier, 1.0), of(later, 2.0)];
    let same_node = earlier.0 == later.0;
    if turned && !same_node {
        frames.reverse();
    }
    for frame in frames {
        db.append(&[frame]).await.unwrap();
    }
    let kept = db.raw(7, 50, 50, false, 10).await.unwrap();
    assert_eq!(kept.iter().map(|k| k.value.clone()).collect::<Vec<_>>(), [Some(Value::F64(2.0))]);
}

#[tokio::test]
async fn where_one_node_recorded_nothing_another_ones_values_hold() {
    let db = db().await;
    db.append(&[frame(FIRST, 1, 1, &[(10, 1.0)])]).await.unwrap();
    db.append(&[frame(SECOND, 1, 1, &[(30, 3.0)])]).await.unwrap();
    let mut back = frame(FIRST, 1, 2, &[(90, 9.0)]);
    back.gaps.push(Gap { from: 20, to: 80, reason: "Havrel did not run".into() });
    db.append(&[back]).await.unwrap();
    let wanted = [(10, Some(1.0)), (30, Some(3.0)), (90, Some(9.0))];
    assert_eq!(shown(&db, 7, 0, 100).await, wanted, "the second node recorded meanwhile");
    assert_eq!(db.unrecorded(0, 100).await.unwrap()[0].node, 1);
}
