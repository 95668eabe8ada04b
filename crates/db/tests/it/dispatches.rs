//! What dispatches set off: once for each instant, tried again or given up, and kept over a restart.

use crate::{db, frame};
use havrel_core::{
    dispatch::{Parcel, Run},
    engine::Row,
    notice::Tries,
    report::Format,
};
use havrel_db::{
    Db,
    dispatches::{Mark, RunFilter},
    editions::{Edition, Printed},
};
use uuid::Uuid;

const DISPATCH: Uuid = Uuid::from_u128(1);
const REPORT: Uuid = Uuid::from_u128(2);

fn run(at: i64, to: &[&str]) -> Run {
    let parcel = |to: &&str| Parcel {
        id: Uuid::now_v7(),
        connection: Uuid::from_u128(3),
        to: (*to).to_owned(),
        file: "{report}".into(),
        formats: vec![Format::Pdf, Format::Csv],
        tries: Tries::default(),
        bytes: 0,
        took_ms: 0,
    };
    Run {
        id: Uuid::now_v7(),
        dispatch: DISPATCH,
        name: "Morning".into(),
        report: REPORT,
        at,
        by: String::new(),
        from: at - 10,
        to: at,
        making: Tries::from(at),
        deliveries: to.iter().map(parcel).collect(),
    }
}

/// The edition of a run is made at an instant.
async fn made(db: &Db, mut run: Run, at: i64) -> Run {
    run.making.sent(at, "");
    let title = "Shift".to_owned();
    let edition = Edition { id: run.id, report: REPORT, title, made_at: at, made_by: String::new(), from: run.from, to: run.to };
    db.made(&run, &edition, &Printed { csv: "a".into(), ..Printed::default() }).await.unwrap();
    run
}

#[tokio::test]
async fn an_instant_is_set_off_once_and_its_deliveries_wait_for_the_edition() {
    let db = db().await;
    let mark = Mark { since: 5, until: 100 };
    let (first, second) = (run(100, &["a@b", "c@d"]), run(100, &["a@b"]));
    assert_eq!(db.set_off(std::slice::from_ref(&first), &[(DISPATCH, mark)]).await.unwrap(), [first.id]);
    assert!(db.set_off(&[second], &[]).await.unwrap().is_empty(), "the same instant once more, after a restart between");
    assert_eq!(db.dispatch_marks().await.unwrap()[&DISPATCH], mark);
    assert!(db.runs_to_make(99, 10).await.unwrap().is_empty());
    assert_eq!(db.runs_to_make(100, 10).await.unwrap(), std::slice::from_ref(&first));
    assert!(db.parcels_to_send(1000, &[], 10).await.unwrap().is_empty());

    let run = made(&db, first, 120).await;
    assert!(db.runs_to_make(1000, 10).await.unwrap().is_empty());
    let due = db.parcels_to_send(120, &[], 10).await.unwrap();
    assert_eq!(due.len(), 2);
    assert_eq!(db.parcels_to_send(120, &[due[0].1.id], 10).await.unwrap().len(), 1, "what is under way is not sent twice");
    assert_eq!(db.edition(run.id).await.unwrap().map(|edition| edition.title).as_deref(), Some("Shift"));
    db.forget_marks(&[DISPATCH]).await.unwrap();
    assert!(db.dispatch_marks().await.unwrap().is_empty());
}

#[tokio::test]
async fn what_came_of_a_delivery_is_kept_tried_again_and_given_up() {
    let db = db().await;
    let made_run = made(
        &db,
        {
            let run = run(100, &["a@b", "c@d"]);
            db.set_off(std::slice::from_ref(&run), &[]).await.unwrap();
            run
        },
        100,
    )
    .await;
    let mut due = db.parcels_to_send(100, &[], 10).await.unwrap();
    let (mut sent, mut failed) = (due.remove(0).1, due.remove(0).1);
    (sent.bytes, sent.took_ms) = (77, 8);
    sent.tries.sent(110, "250 taken");
    failed.tries.failed(110, "550 nobody", true);
    db.keep_parcel(&sent).await.unwrap();
    db.keep_parcel(&failed).await.unwrap();
    let kept = db.run(made_run.id).await.unwrap().unwrap();
    assert_eq!(kept.deliveries, [sent.clone(), failed.clone()]);
    let failing = RunFilter { failed: true, ..RunFilter::default() };
    assert_eq!(db.runs(&failing, 10).await.unwrap().len(), 1);
    assert!(db.runs(&RunFilter { before: Some(100), ..RunFilter::default() }, 10).await.unwrap().is_empty());
    assert_eq!(db.last_runs(&[DISPATCH, REPORT]).await.unwrap()[&DISPATCH].id, made_run.id);

    assert!(db.try_again(made_run.id, 200).await.unwrap());
    let due = db.parcels_to_send(200, &[], 10).await.unwrap();
    assert_eq!(due.iter().map(|(_, parcel)| parcel.id).collect::<Vec<_>>(), [failed.id], "what was sent stays sent");
    assert!(db.runs(&failing, 10).await.unwrap().is_empty());
    assert!(db.give_up(made_run.id, "Somebody stopped it.").await.unwrap());
    assert!(!db.give_up(made_run.id, "Somebody stopped it.").await.unwrap());
    let kept = db.run(made_run.id).await.unwrap().unwrap();
    assert_eq!(
        (kept.deliveries[0].tries.answer.as_str(), kept.deliveries[1].tries.answer.as_str()),
        ("250 taken", "Somebody stopped it.")
    );
}

#[tokio::test]
async fn events_are_new_until_they_set_something_off() {
    let db = db().await;
    let row = |at| Row { recorder: DISPATCH, at, actor: String::new() };
    let mut one = frame(1, &[]);
    one.rows = vec![row(10), row(20), row(30), Row { recorder: REPORT, at: 20, actor: String::new() }];
    db.append(&[one]).await.unwrap();
    let since = [(DISPATCH, 20)];
    assert_eq!(
        db.new_events(&since, 10).await.unwrap(),
        [(DISPATCH, 20), (DISPATCH, 30)],
        "what was before it ran does not count"
    );
    assert_eq!(db.new_events(&since, 1).await.unwrap(), [(DISPATCH, 20)]);
    db.set_off(&[run(20, &[])], &[]).await.unwrap();
    assert_eq!(db.new_events(&since, 10).await.unwrap(), [(DISPATCH, 30)]);
}

#[tokio::test]
async fn what_a_wrong_clock_set_off_is_set_off_again_when_its_time_comes() {
    let db = db().await;
    db.set_off(&[run(100, &[]), run(1_000, &[]), run(2_000, &[])], &[]).await.unwrap();
    assert_eq!(db.free_instants(DISPATCH, 500, 200).await.unwrap(), 2);
    let at = async || {
        let runs = db.runs(&RunFilter::default(), 10).await.unwrap();
        runs.iter().map(|run| run.at).collect::<Vec<_>>()
    };
    assert_eq!(at().await, [199, 198, 100]);
    assert_eq!(db.set_off(&[run(1_000, &[]), run(100, &[])], &[]).await.unwrap().len(), 1);
    assert_eq!(at().await, [1_000, 199, 198, 100]);
}
