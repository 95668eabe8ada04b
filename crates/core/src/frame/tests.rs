//! Frames and their bytes.

use super::*;
use crate::{
    alarm::{AlarmState, EventKind, KeptValue, StandardState, Suppressed, Suppression},
    number::Number,
    plant::Track,
    quality::{Quality, Reason},
    sample::Value,
};
use proptest::prelude::*;

fn frame(values: &[(u32, i64, f64)], texts: &[String]) -> Frame {
    let mut batch = Batch::default();
    for &(tag, time, value) in values {
        batch.push(tag, time, Quality::GOOD, 0, &Value::F64(value));
    }
    for text in texts {
        batch.push(7, 1, Quality::of(Reason::Clamped), 3, &Value::Text(text.clone()));
    }
    let rule = Uuid::from_u128(7);
    let event = AlarmEvent {
        rule,
        sequence: 3,
        kind: EventKind::Acknowledged,
        priority: 4,
        occurred_at: 1,
        decided_at: 2,
        value: Number::Above(u64::MAX),
        limit: 82.0,
        suppressed: true,
        first_out: true,
        until: Some(9),
        actor: "Shift lead".into(),
        comment: texts.concat(),
        text: "Temperature high".into(),
        values: vec![KeptValue { name: "Flow".into(), text: "3.2 m³/h".into() }],
    };
    let mut state = AlarmState::of_standard(StandardState::LatchedUnacknowledged).unwrap();
    let suppressed = |until| Suppressed { by: "Shift lead".into(), since: 1, until, reason: texts.concat() };
    state.suppressions = [(Suppression::Shelved, suppressed(Some(7))), (Suppression::OutOfService, suppressed(None))].into();
    let state =
        AlarmStanding { state, sequence: 3, value: Number::Below(i64::MIN), first_out: true, ..AlarmStanding::quiet(rule) };
    let gaps = vec![Gap { from: 1, to: 2, reason: "stopped".into() }];
    let note = Note {
        at: 4,
        kind: "write".into(),
        account: Some(Uuid::from_u128(3)),
        actor: "Shift lead".into(),
        subject: None,
        title: texts.concat(),
        detail: "{}".into(),
    };
    let states = vec![state.clone(), AlarmStanding { delay_since: Some(-3), state: AlarmState::default(), ..state }];
    let keeps = vec![Keep { tag: 7, at: 3, value: "12.5".into() }];
    let steps = vec![ClockStep { epoch: 2, at: 100, by: -50 }];
    let empty = Frame::empty(Uuid::from_u128(1), 1, 2, 9, 5);
    let sample = Sample { time: 3, bits: 2.5f64.to_bits(), tag: 7, quality: Quality::GOOD, kind: Kind::F64, flags: 0 };
    let tracked = vec![Tracked { recorder: Uuid::from_u128(8), track: Track::Average, sample }];
    let rows = vec![Row { recorder: Uuid::from_u128(8), at: 6, actor: "Laboratory".into() }];
    Frame { batch, events: vec![event], states, gaps, notes: vec![note], keeps, steps, tracked, rows, ..empty }
}

proptest! {
    #[test]
    fn bytes_round_trip(
        values in prop::collection::vec((any::<u32>(), any::<i64>(), -1e300..1e300f64), 0..130),
        texts in prop::collection::vec(".{0,40}", 0..5),
    ) {
        let frame = frame(&values, &texts);
        let bytes = frame.encode().unwrap();
        prop_assert_eq!(Frame::decode(&bytes), Ok((frame, bytes.len())));
    }

    /// However small the parts: together they hold every entry once, in order, each by the next number.
    #[test]
    fn parts_hold_what_the_whole_held(
        values in prop::collection::vec((any::<u32>(), any::<i64>(), -1e300..1e300f64), 0..130),
        texts in prop::collection::vec(".{0,40}", 0..5),
        most in 1usize..4000,
    ) {
        let whole = frame(&values, &texts);
        let entries = whole.entries();
        let parts = whole.clone().parts(most);
        prop_assert_eq!(parts.iter().map(Frame::entries).sum::<usize>(), entries);
        let mut joined = Frame::empty(whole.node, 1, 2, 9, 5);
        for (n, part) in parts.into_iter().enumerate() {
            prop_assert_eq!((part.seq, part.node, part.epoch), (9 + n as u64, whole.node, 2));
            prop_assert!(part.entries() == 1 || part.encode().unwrap().len() <= most + 200);
            part.batch.samples.iter().for_each(|&s| joined.batch.copy_from(&part.batch, s));
            joined.events.extend(part.events);
            joined.states.extend(part.states);
            joined.gaps.extend(part.gaps);
            joined.notes.extend(part.notes);
            joined.keeps.extend(part.keeps);
            joined.steps.extend(part.steps);
            joined.tracked.extend(part.tracked);
            joined.rows.extend(part.rows);
        }
        prop_assert_eq!(joined, whole);
    }

    #[test]
    fn any_flipped_bit_is_noticed(at in 0usize..1 << 20, bit in 0u8..8) {
        let mut bytes = frame(&[(1, 2, 3.0)], &["text".into()]).encode().unwrap();
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        prop_assert!(Frame::decode(&bytes).is_err());
    }

    #[test]
    fn hostile_bodies_give_errors(mut body in prop::collection::vec(any::<u8>(), 0..400)) {
        let mut bytes = Vec::from([&[BEGINNING], FORMER_BEGINNINGS.as_slice()].concat()[body.len() % 6]);
        bytes.extend((body.len() as u32).to_le_bytes());
        bytes.extend(crc32fast::hash(&body).to_le_bytes());
        bytes.append(&mut body);
        let _ = Frame::decode(&bytes);
    }
}

#[test]
fn nothing_is_written_that_no_reader_takes() {
    let text = "x".repeat(60_000);
    let mut whole = frame(&[], &vec![text; 300]);
    whole.events.clear();
    whole.notes.clear();
    whole.states.clear();
    assert_eq!(whole.encode(), Err(FrameError::Size));
    let parts = whole.parts(PART_BYTES);
    assert!(parts.len() > 4);
    for part in parts {
        let bytes = part.encode().unwrap();
        assert_eq!(Frame::decode(&bytes), Ok((part, bytes.len())));
    }
}

#[test]
fn frames_of_the_first_form_are_read() {
    // Node 1, term 1, number 9, arrived 5; one sample, one state and one gap, as the first form wrote them.
    let mut body = Vec::from(Uuid::from_u128(1).into_bytes());
    body.extend(1u32.to_le_bytes());
    body.extend(9u64.to_le_bytes());
    body.extend(5i64.to_le_bytes());
    [1u32, 0, 0, 1, 1].iter().for_each(|n| body.extend(n.to_le_bytes()));
    body.extend(2i64.to_le_bytes());
    body.extend(3.0f64.to_bits().to_le_bytes());
    body.extend(7u32.to_le_bytes());
    body.extend(Quality::GOOD.bits().to_le_bytes());
    body.extend([Kind::F64 as u8, 0]);
    body.extend(Uuid::from_u128(7).into_bytes());
    body.push(StandardState::Unacknowledged as u8);
    body.extend(3u32.to_le_bytes());
    body.push(1);
    [10i64, 0].iter().for_each(|t| body.extend(t.to_le_bytes()));
    body.extend(84.6f64.to_bits().to_le_bytes());
    body.extend([4, 0]);
    body.extend(b"high");
    body.extend([0, 0]);
    [1i64, 2].iter().for_each(|t| body.extend(t.to_le_bytes()));
    body.extend([4, 0]);
    body.extend(b"stop");
    let bytes = sealed(FORMER_BEGINNINGS[0], &body);
    let (frame, length) = Frame::decode(&bytes).unwrap();
    assert_eq!((frame.seq, frame.epoch, frame.arrived, length), (9, 0, 5, bytes.len()));
    assert_eq!(frame.batch.value_of(frame.batch.samples[0]), Some(Value::F64(3.0)));
    assert_eq!((frame.states[0].text.as_str(), frame.states[0].delay_since), ("high", None));
    assert_eq!(frame.gaps, [Gap { from: 1, to: 2, reason: "stop".into() }]);
}

fn sealed(beginning: [u8; 4], body: &[u8]) -> Vec<u8> {
    let mut bytes = Vec::from(beginning);
    bytes.extend((body.len() as u32).to_le_bytes());
    bytes.extend(crc32fast::hash(body).to_le_bytes());
    bytes.extend(body);
    bytes
}

#[test]
fn frames_of_the_third_form_are_read() {
    let whole = frame(&[], &[]);
    let (event, state) = (whole.events[0].clone(), whole.states[1].clone());
    let one = Frame {
        events: vec![AlarmEvent { first_out: false, values: Vec::new(), ..event }],
        ..Frame::empty(whole.node, 1, 2, 9, 5)
    };
    let two = Frame { states: vec![AlarmStanding { first_out: false, ..state }], ..Frame::empty(whole.node, 1, 2, 9, 5) };
    let former = |frame: &Frame| {
        let mut body = frame.encode().unwrap()[12..].to_vec();
        // No form before today's counts what recorders do.
        body.drain(BODY..BODY + 8);
        body
    };
    let mut body = former(&one);
    assert_eq!(Frame::decode(&sealed(FORMER_BEGINNINGS[4], &body)).map(|(frame, _)| frame), Ok(one.clone()));
    // The fourth form is the fifth without the values behind an event, the third also without the byte that tells of the first of a
    // group.
    assert_eq!(body.pop(), Some(0));
    assert_eq!(Frame::decode(&sealed(FORMER_BEGINNINGS[3], &body)).map(|(frame, _)| frame), Ok(one.clone()));
    assert_eq!(body.remove(BODY + 16 + 4 + 3), 0);
    assert_eq!(Frame::decode(&sealed(FORMER_BEGINNINGS[2], &body)).map(|(frame, _)| frame), Ok(one));
    let mut body = former(&two);
    assert_eq!(body.remove(BODY + 16 + 2), 0);
    assert_eq!(Frame::decode(&sealed(FORMER_BEGINNINGS[2], &body)).map(|(frame, _)| frame), Ok(two));
}

/// Where the entries begin in the body of a frame without samples.
const BODY: usize = 16 + 4 + 4 + 8 + 8 + 8 * 4;

/// An event as the second form wrote it, in a frame of its own.
fn second_form(kind: u8) -> Vec<u8> {
    let mut body = Vec::from(Uuid::from_u128(1).into_bytes());
    [1u32, 0].iter().for_each(|n| body.extend(n.to_le_bytes()));
    [9u64, 5].iter().for_each(|n| body.extend(n.to_le_bytes()));
    [0u32, 0, 1, 1, 0, 0, 0, 0].iter().for_each(|n| body.extend(n.to_le_bytes()));
    body.extend(Uuid::from_u128(7).into_bytes());
    body.extend(3u32.to_le_bytes());
    body.extend([kind, 4]);
    [1i64, 2].iter().for_each(|t| body.extend(t.to_le_bytes()));
    [84.6f64, 82.0].iter().for_each(|v| body.extend(v.to_bits().to_le_bytes()));
    [[4u8, 0, b'l', b'e', b'a', b'd'].as_slice(), &[0, 0], &[4, 0, b'h', b'i', b'g', b'h']].iter().for_each(|t| body.extend(*t));
    body.extend(Uuid::from_u128(7).into_bytes());
    body.push(StandardState::ReturnedUnacknowledged as u8);
    body.extend(3u32.to_le_bytes());
    body.push(0);
    [10i64, 20].iter().for_each(|t| body.extend(t.to_le_bytes()));
    body.extend(84.6f64.to_bits().to_le_bytes());
    body.extend([0; 4]);
    body.extend(15i64.to_le_bytes());
    sealed(FORMER_BEGINNINGS[1], &body)
}

#[test]
fn frames_of_the_second_form_are_read() {
    let (frame, _) = Frame::decode(&second_form(EventKind::Returned as u8)).unwrap();
    let event = &frame.events[0];
    assert_eq!((event.kind, event.value, event.limit, event.until), (EventKind::Returned, 84.6.into(), 82.0, None));
    assert_eq!((event.actor.as_str(), event.text.as_str(), event.suppressed), ("lead", "high", false));
    let state = &frame.states[0];
    assert_eq!((state.state.standard(), state.delay_since), (StandardState::ReturnedUnacknowledged, Some(15)));
    assert_eq!((state.raised_at, state.returned_at, state.value), (10, 20, 84.6.into()));
}

#[test]
fn a_kind_of_event_that_a_newer_version_made_is_named() {
    let error = Frame::decode(&second_form(77)).unwrap_err();
    assert_eq!(error.to_string(), "this version knows no kind of alarm event with the number 77; a newer version wrote it");
}

#[test]
fn a_torn_frame_is_short() {
    let bytes = frame(&[(1, 2, 3.0)], &[]).encode().unwrap();
    for cut in 0..bytes.len() {
        assert_eq!(Frame::decode(&bytes[..cut]), Err(FrameError::Short));
    }
}
