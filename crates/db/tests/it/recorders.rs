//! Figures that recorders keep, rows that they take, and what is removed when it is old.

use super::{db, frame};
use havrel_core::{
    engine::{Row, Tracked},
    plant::Track,
    quality::Quality,
    sample::{Kind, Sample, Value},
};
use havrel_db::{
    answers::TrackOf,
    recorders::{Aged, KeptTrack, Taken},
};
use uuid::Uuid;

const ONE: Uuid = Uuid::from_u128(51);
const TWO: Uuid = Uuid::from_u128(52);

fn figure(recorder: Uuid, track: Track, tag: u32, at: i64, value: f64) -> Tracked {
    let sample = Sample { time: at, bits: value.to_bits(), tag, quality: Quality::GOOD, kind: Kind::F64, flags: 0 };
    Tracked { recorder, track, sample }
}

fn of(recorder: Uuid, track: Track, tag: u32) -> TrackOf {
    TrackOf { tag, track, recorder }
}

#[tokio::test]
async fn figures_stand_beside_the_value_and_are_not_mixed_with_it() {
    let db = db().await;
    let mut one = frame(1, &[(7, 10, 1.0), (7, 70, 5.0)]);
    one.tracked = vec![
        figure(ONE, Track::Average, 7, 0, 2.5),
        figure(ONE, Track::Maximum, 7, 0, 4.0),
        figure(TWO, Track::Average, 7, 0, 99.0),
        figure(ONE, Track::Average, 7, 60, 3.5),
    ];
    one.rows =
        vec![Row { recorder: TWO, at: 30, actor: "Laboratory".into() }, Row { recorder: TWO, at: 40, actor: String::new() }];
    db.append(&[one.clone()]).await.unwrap();
    let values = async |asked: TrackOf| {
        let kept = db.raw(asked, 0, 100, false, 10).await.unwrap();
        kept.into_iter().map(|k| (k.time, k.value)).collect::<Vec<_>>()
    };
    let f = |v| Some(Value::F64(v));
    assert_eq!(values(7.into()).await, [(10, f(1.0)), (70, f(5.0))]);
    assert_eq!(values(of(ONE, Track::Average, 7)).await, [(0, f(2.5)), (60, f(3.5))]);
    assert_eq!(values(of(TWO, Track::Average, 7)).await, [(0, f(99.0))]);
    assert_eq!(values(of(ONE, Track::Average, 8)).await, []);
    // The same of many at once, in the order of the questions, and of one question asked twice.
    let asked = [of(ONE, Track::Maximum, 7), 7.into(), of(TWO, Track::Sum, 7), 7.into()];
    let at: Vec<_> = db.at(&asked, 65).await.unwrap().into_iter().map(|k| k.and_then(|k| k.value)).collect();
    assert_eq!(at, [f(4.0), f(1.0), None, f(1.0)]);
    let spans = db.spans(&asked[..2], 0, 100, 1, 100).await.unwrap();
    assert_eq!(spans.iter().map(|s| s[0].count).collect::<Vec<_>>(), [1, 2]);
    // What holds after a restart is the value.
    assert_eq!(db.newest().await.unwrap().iter().map(|(tag, k)| (*tag, k.time)).collect::<Vec<_>>(), [(7, 70)]);
    assert_eq!(
        db.kept_tracks(&[7, 8]).await.unwrap(),
        [(ONE, Track::Average), (ONE, Track::Maximum), (TWO, Track::Average)].map(|(recorder, track)| KeptTrack {
            tag: 7,
            track,
            recorder
        })
    );
    let taken = [
        Taken { rows: 0, last_row: None, last_span: Some(60) },
        Taken { rows: 2, last_row: Some(40), last_span: Some(0) },
        Taken::default(),
    ];
    assert_eq!(db.taken(&[ONE, TWO, Uuid::from_u128(9)]).await.unwrap(), taken);
    assert_eq!(db.rows_of(TWO, 35, 10).await.unwrap(), [(30, "Laboratory".to_owned())]);
    assert_eq!((db.rows_since(TWO, 35).await.unwrap(), db.counted(&[8, 7], 0, 70, 1000).await.unwrap()), (1, vec![0, 1]));
    // Sent again after a lost answer it is there once.
    one.seq = 2;
    db.append(&[one]).await.unwrap();
    assert_eq!((values(of(ONE, Track::Average, 7)).await.len(), db.taken(&[TWO]).await.unwrap()[0].rows), (2, 2));
}

#[tokio::test]
async fn what_is_too_old_goes_step_by_step_and_nothing_else_does() {
    let db = db().await;
    let samples: Vec<(u32, i64, f64)> = (0..50).flat_map(|at| [(7, at, at as f64), (8, at, 0.0)]).collect();
    let mut one = frame(1, &samples);
    one.tracked = (0..50).map(|at| figure(ONE, Track::Average, 7, at, 1.0)).collect();
    one.tracked.extend((0..50).map(|at| figure(TWO, Track::Sum, 7, at, 1.0)));
    one.rows = (0..5).map(|at| Row { recorder: ONE, at, actor: String::new() }).collect();
    db.append(&[one]).await.unwrap();
    let mut steps = Vec::new();
    loop {
        let removed = db.remove_aged(Aged::Value(7), 30, 8).await.unwrap();
        steps.push(removed);
        if removed < 8 {
            break;
        }
    }
    assert_eq!(steps, [8, 8, 8, 6]);
    assert_eq!(db.remove_aged(Aged::Figures(ONE), 40, 1000).await.unwrap(), 40);
    assert_eq!(db.remove_rows(ONE, 3).await.unwrap(), 3);
    let left = async |of: TrackOf| db.raw(of, 0, 100, false, 100).await.unwrap().len();
    assert_eq!((left(7.into()).await, left(8.into()).await), (20, 50));
    assert_eq!((left(of(ONE, Track::Average, 7)).await, left(of(TWO, Track::Sum, 7)).await), (10, 50));
    assert_eq!(db.history_size().await.unwrap().samples, None, "nobody has counted yet");
}
