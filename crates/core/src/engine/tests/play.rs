//! Whatever happens to several tags: restarts and steps of the clock change no event.

use super::*;

/// Three tags (7, 8, 9), each with a high limit at 80 that has delays of its own.
fn three() -> Plant {
    let item = |kind, n, no, value| Stored { kind, id: id(n), no, revision: 1, own: own(value) };
    let mut stored = vec![item(ItemKind::Place, 1, 0, json!({"name": "EX-1"}))];
    for (i, (on, off)) in [(0.0, 0.0), (3.0, 0.0), (2.0, 4.0)].into_iter().enumerate() {
        let n = i as u128;
        let tag = json!({"place": id(1), "name": format!("T{i}"), "record": true, "record_deadband": 0.5});
        let rule =
            json!({"tag": id(10 + n), "kind": "high", "level": 80.0, "deadband": 1.0, "on_delay_s": on, "off_delay_s": off});
        stored.push(item(ItemKind::Tag, 10 + n, 7 + i as u32, tag));
        stored.push(item(ItemKind::Rule, 20 + n, 0, rule));
    }
    let (plant, broken) = Plant::from_stored(1, stored);
    assert_eq!(broken, []);
    plant
}

/// What can happen to three tags.
#[derive(Clone, Copy, Debug)]
enum Happening {
    /// A value of a tag, read now.
    Value(u32, f64),
    Bad(u32),
    /// A value that a source sends with its own time, so many seconds old.
    Late(u32, f64, i64),
    Tick,
    /// Something is done about everybody's alarms.
    Act(AlarmAction),
    /// Everybody's alarms are shelved for so many seconds.
    Shelve(i64),
    /// The clock is set by so many seconds.
    Step(i64),
}

fn happening(steps: bool) -> impl Strategy<Value = Happening> {
    let tag = || 7u32..10;
    prop_oneof![
        8 => (tag(), 70.0..90.0f64).prop_map(|(tag, v)| Happening::Value(tag, v)),
        1 => tag().prop_map(Happening::Bad),
        2 => (tag(), 70.0..90.0f64, 0i64..8).prop_map(|(tag, v, age)| Happening::Late(tag, v, age)),
        2 => Just(Happening::Tick),
        1 => Just(Happening::Act(AlarmAction::Acknowledge)),
        // The end of a shelf is a time of the wall clock, so it moves with its steps.
        u32::from(steps) => (1i64..9).prop_map(Happening::Shelve),
        u32::from(steps) => Just(Happening::Act(AlarmAction::Lift(Suppression::Shelved))),
        u32::from(steps) => (-4000i64..4000).prop_map(Happening::Step),
    ]
}

/// Lets things happen, one a second, and gives the effects. `restarts` says before which of them the engine is made anew from
/// where its alarms stood and what was known.
struct Play {
    plant: Plant,
    engine: Engine,
    /// The wall clock, in seconds.
    wall: i64,
    epoch: u32,
    out: Effects,
}

impl Play {
    fn new() -> Play {
        let plant = three();
        Play { engine: engine(&plant, vec![]), plant, wall: 10_000, epoch: 0, out: Effects::default() }
    }

    fn step(&mut self, input: Input<'_>) {
        self.engine.step(self.wall * SECOND, input, &mut self.out);
    }

    fn restart(&mut self) {
        let standings = self.engine.standings().cloned().collect();
        let known: Vec<Current> = (0..3).map(|slot| self.engine.current(slot).clone()).collect();
        self.engine = engine(&self.plant, standings);
        self.step(Input::ClockStep { epoch: self.epoch, by: 0 });
        for (tag, current) in (7..10).zip(&known) {
            self.step(Input::Restore { tag, current });
        }
    }

    fn act(&mut self, action: AlarmAction) {
        let rules = [id(20), id(21), id(22)];
        self.step(Input::Alarms { rules: &rules, action, actor: "Shift lead", comment: "" });
    }

    fn happen(&mut self, what: Happening) {
        self.wall += 1;
        let mut batch = Batch::default();
        match what {
            Happening::Value(tag, v) => batch.push(tag, self.wall * SECOND, Quality::GOOD, 0, &Value::F64(v)),
            Happening::Bad(tag) => batch.push_quality(tag, self.wall * SECOND, Quality::of(Reason::NoAnswer)),
            Happening::Late(tag, v, age) => {
                batch.push(tag, (self.wall - age) * SECOND, Quality::GOOD, flag::OWN_TIME, &Value::F64(v));
            }
            Happening::Tick => self.step(Input::Tick),
            Happening::Act(action) => self.act(action),
            Happening::Shelve(long) => {
                self.act(AlarmAction::Suppress(Suppression::Shelved, Some((self.wall + long) * SECOND)));
            }
            Happening::Step(by) => {
                self.wall += by;
                self.epoch += 1;
                self.step(Input::ClockStep { epoch: self.epoch, by: by * SECOND });
            }
        }
        if !batch.is_empty() {
            self.step(Input::Samples(&batch));
        }
    }
}

/// What must be the same however the program was stopped between: what happened to which alarm, in which order, and when.
fn story(events: &[AlarmEvent]) -> Vec<(Uuid, u32, EventKind, Nanos, Nanos)> {
    events.iter().map(|e| (e.rule, e.sequence, e.kind, e.occurred_at, e.decided_at)).collect()
}

proptest! {
    /// Several tags, delays, late samples, acknowledgements, stepped clocks, and a restart at any points between: the same
    /// events, each once, at the same instants.
    #[test]
    fn restarts_change_no_event(
        happenings in prop::collection::vec(happening(true), 1..120),
        restarts in prop::collection::vec(0usize..120, 0..6),
    ) {
        let mut whole = Play::new();
        let mut stopped = Play::new();
        for (i, &what) in happenings.iter().enumerate() {
            whole.happen(what);
            if restarts.contains(&i) {
                stopped.restart();
            }
            stopped.happen(what);
        }
        prop_assert_eq!(story(&stopped.out.events), story(&whole.out.events));
    }

    /// A step of the clock, whichever way, changes neither what is shown nor which alarms come, nor in which order: delays
    /// run on as if nobody had touched the clock.
    #[test]
    fn a_stepped_clock_stops_nothing(
        happenings in prop::collection::vec(happening(false), 1..80),
        at in 0usize..80,
        by in -4000i64..4000,
    ) {
        let mut plain = Play::new();
        let mut stepped = Play::new();
        let at = at.min(happenings.len() - 1);
        for (i, &what) in happenings.iter().enumerate() {
            // Samples with times of their own are another matter: their clock was not stepped with ours.
            let what = match what {
                Happening::Late(tag, v, _) => Happening::Value(tag, v),
                what => what,
            };
            if i == at {
                // The step takes no time of its own.
                stepped.wall -= 1;
                stepped.happen(Happening::Step(by));
            }
            plain.happen(what);
            stepped.happen(what);
            for slot in 0..3 {
                prop_assert_eq!(&stepped.engine.current(slot).value, &plain.engine.current(slot).value);
                prop_assert_eq!(stepped.engine.current(slot).quality, plain.engine.current(slot).quality);
            }
        }
        let told = |play: &Play| play.out.events.iter().map(|e| (e.rule, e.sequence, e.kind)).collect::<Vec<_>>();
        prop_assert_eq!(told(&stepped), told(&plain));
        // Nothing goes to history as late, as it did while every value looked older than what was known.
        prop_assert!(stepped.out.recorded.samples.iter().all(|s| s.flags & flag::LATE == 0));
    }
}
