//! Accounts and sessions.

use crate::{SHARED, db};
use havrel_core::{
    access::Role,
    frame::{ClockStep, Frame},
    time::SECOND,
};
use havrel_db::{
    Db,
    people::{AccountChange, SessionLimits, Unchanged},
};
use sqlx::{Connection, PgConnection};

const LIMITS: SessionLimits = SessionLimits { idle: 3600 * SECOND, longest: 86_400 * SECOND };

#[tokio::test]
async fn the_first_account_is_made_once_and_only_with_the_code() {
    let db = db().await;
    assert!(!db.has_accounts().await.unwrap());
    assert_eq!(db.first_account("Plant engineer", "x", b"guess").await.unwrap(), Err(Unchanged::WrongCode));
    assert!(db.set_setup_code(b"old").await.unwrap() && db.set_setup_code(b"code").await.unwrap());
    assert_eq!(db.first_account("Plant engineer", "x", b"old").await.unwrap(), Err(Unchanged::WrongCode));
    let (a, b) = tokio::join!(db.first_account("Plant engineer", "x", b"code"), db.first_account("Other", "y", b"code"));
    let made = [a.unwrap(), b.unwrap()];
    assert_eq!(made.iter().filter(|m| m.is_ok()).count(), 1);
    assert!(made.contains(&Err(Unchanged::Taken)));
    assert!(!db.set_setup_code(b"another").await.unwrap(), "there is an account already");
}

#[tokio::test]
async fn somebody_can_always_manage_accounts() {
    let db = db().await;
    let one = db.add_account("One", Role::Engineer, "x").await.unwrap().unwrap();
    let two = db.add_account("Two", Role::Engineer, "x").await.unwrap().unwrap();
    assert_eq!(db.add_account("one", Role::Viewer, "x").await.unwrap(), None);
    let less = |role| AccountChange { role: Some(role), ..AccountChange::default() };
    let (viewer, operator) = (less(Role::Viewer), less(Role::Operator));
    // Each takes the right away from the other at once.
    let (a, b) = tokio::join!(db.change_account(one.account, &viewer), db.change_account(two.account, &operator));
    let changed = [a.unwrap(), b.unwrap()];
    assert!(changed.contains(&Err(Unchanged::LastEngineer)) && changed.iter().any(Result::is_ok), "{changed:?}");
    let last = db.accounts().await.unwrap().into_iter().find(|a| a.role == Role::Engineer).unwrap();
    let off = AccountChange { disabled: Some(true), ..AccountChange::default() };
    assert_eq!(db.change_account(last.id, &off).await.unwrap(), Err(Unchanged::LastEngineer));
}

#[tokio::test]
async fn sessions_end_when_they_should() {
    SHARED.cluster.ensure("sessions", None).await.unwrap();
    let db = Db::open(SHARED.cluster.options("sessions")).await.unwrap();
    let mut sql = PgConnection::connect_with(&SHARED.cluster.options("sessions")).await.unwrap();
    db.add_account("Keeper", Role::Engineer, "x").await.unwrap().unwrap();
    let lead = db.add_account("Shift lead", Role::Operator, "x").await.unwrap().unwrap();
    let begin = async |hash: &[u8]| db.begin_session(lead.account, hash, "127.0.0.1", "a browser").await.unwrap();
    let known = async |hash: &[u8], limits| db.session(hash, limits).await.unwrap().map(|(id, _)| id);
    let (a, b) = (begin(b"a").await, begin(b"b").await);
    assert_eq!((known(b"a", LIMITS).await, known(b"b", LIMITS).await, known(b"c", LIMITS).await), (Some(a), Some(b), None));
    assert_eq!(db.sessions(lead.account).await.unwrap().len(), 2);
    // A changed password ends all but the one it was changed in.
    let password = AccountChange { password: Some("y".into()), stays: Some(b), ..AccountChange::default() };
    db.change_account(lead.account, &password).await.unwrap().unwrap();
    assert_eq!((known(b"a", LIMITS).await, known(b"b", LIMITS).await), (None, Some(b)));
    // One that was not used for long, or began long ago, ends by itself.
    let short = SessionLimits { idle: 0, longest: 86_400 * SECOND };
    assert_eq!((known(b"b", short).await, known(b"b", LIMITS).await), (None, None));
    begin(b"d").await;
    // The clock of machine and database is set ahead by a day: what was used a moment ago goes on.
    sqlx::query("update session set seen_at = seen_at - interval '1 day', made_at = made_at - interval '1 day'")
        .execute(&mut sql)
        .await
        .unwrap();
    let now = i64::try_from(std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos()).unwrap();
    let mut step = Frame::empty(uuid::Uuid::from_u128(1), 1, 1, 1, now);
    step.steps.push(ClockStep { epoch: 1, at: now, by: 86_400 * SECOND });
    db.append(&[step.clone()]).await.unwrap();
    assert!(known(b"d", LIMITS).await.is_some());
    // A database elsewhere whose clock was not set moves nothing.
    let far = Frame { seq: 2, arrived: now + 86_400 * SECOND, ..step };
    db.append(&[far]).await.unwrap();
    assert!(known(b"d", LIMITS).await.is_some());
    let disabled = AccountChange { disabled: Some(true), ..AccountChange::default() };
    db.change_account(lead.account, &disabled).await.unwrap().unwrap();
    assert_eq!(known(b"d", LIMITS).await, None);
    assert!(db.account_named("Shift lead").await.unwrap().is_none());
}
