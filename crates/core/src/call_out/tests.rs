use super::*;
use crate::plant::Kind;
use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value as Json, json};

const PLAN: Uuid = Uuid::from_u128(100);

fn plant(more: Json) -> Plant {
    let mut own = json!({
        "name": "Night", "mail": Uuid::from_u128(9), "rounds": 2, "after_min": 0,
        "steps": [
            {"to": {"kind": "person", "account": Uuid::from_u128(1)}, "wait_min": 5},
            {"to": {"kind": "person", "account": Uuid::from_u128(2)}, "wait_min": 10}
        ]
    });
    own.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    let mut plant = Plant::default();
    plant.put(Kind::CallPlan, PLAN, 0, 1, own.as_object().unwrap().clone()).unwrap();
    plant
}

fn alarm(rule: u128, minute: i64, priority: u8) -> Waiting {
    let concerning = Concerning { priority, place: None, class: None };
    Waiting { rule: Uuid::from_u128(rule), raised_at: minute * MINUTE, text: format!("Alarm {rule}"), concerning }
}

/// Looks at the book at a minute, with ids that count up.
struct Desk {
    book: Book,
    plant: Plant,
    made: u128,
}

impl Desk {
    fn new(more: Json) -> Desk {
        Desk { book: Book::default(), plant: plant(more), made: 1000 }
    }

    fn look(&mut self, minute: i64, waiting: &[Waiting]) -> Vec<String> {
        let made = &mut self.made;
        let mut make = || {
            *made += 1;
            Uuid::from_u128(*made)
        };
        let orders = self.book.look(minute * MINUTE, &self.plant, waiting, &mut make);
        orders.iter().map(|order| self.words(order)).collect()
    }

    fn words(&self, order: &Order) -> String {
        let end = |id: &Uuid| self.book.call(*id).and_then(|call| call.over.clone()).map(|over| format!("{:?}", over.how));
        match order {
            Order::Begin(_) => "begin".into(),
            Order::Tell { step, round, .. } => format!("tell {step} in {round}"),
            Order::TellMore(_) => "more".into(),
            Order::Change(_) => "change".into(),
            Order::Hold(_) => "hold".into(),
            Order::End(id) => format!("end {}", end(id).unwrap_or_default()),
        }
    }

    fn only(&self) -> Uuid {
        self.book.calls().next().unwrap().id
    }
}

#[test]
fn steps_follow_each_other_until_everybody_was_told_as_often_as_the_plan_says() {
    let mut desk = Desk::new(json!({}));
    let waits = [alarm(1, 0, 3)];
    assert_eq!(desk.look(0, &waits), ["begin", "tell 0 in 0"]);
    assert_eq!(desk.look(1, &waits), [""; 0]);
    assert_eq!(desk.book.wake(), 2 * MINUTE);
    assert_eq!(desk.look(5, &waits), ["tell 1 in 0"]);
    assert_eq!(desk.look(14, &waits), [""; 0]);
    assert_eq!(desk.look(15, &waits), ["tell 0 in 1"]);
    assert_eq!(desk.look(20, &waits), ["tell 1 in 1"]);
    assert_eq!(desk.look(30, &waits), ["end Unanswered"]);
    assert_eq!(desk.look(31, &waits), [""; 0], "nobody is called again for an alarm that stands on");
    assert_eq!(desk.look(60, &[]), [""; 0]);
    assert_eq!(desk.look(61, &[alarm(1, 61, 3)]), ["begin", "tell 0 in 0"], "it came again");
}

#[test]
fn a_plan_waits_before_it_calls() {
    let mut desk = Desk::new(json!({"after_min": 3}));
    let waits = [alarm(1, 0, 3)];
    assert_eq!(desk.look(2, &waits), [""; 0]);
    assert_eq!(desk.book.wake(), 3 * MINUTE);
    assert_eq!(desk.look(3, &waits), ["begin", "tell 0 in 0"]);
    let mut quick = Desk::new(json!({"after_min": 3}));
    quick.look(2, &waits);
    assert_eq!(quick.look(3, &[]), [""; 0], "somebody was in time");
}

#[test]
fn a_call_ends_when_nothing_waits_any_more() {
    let mut desk = Desk::new(json!({}));
    desk.look(0, &[alarm(1, 0, 3), alarm(2, 0, 3)]);
    assert_eq!(desk.look(1, &[alarm(2, 0, 3)]), ["change"]);
    assert_eq!(desk.look(2, &[]), ["end Acknowledged"]);
    // One that was shelved and comes back is called for.
    assert_eq!(desk.look(3, &[alarm(2, 0, 3)]), ["begin", "tell 0 in 0"]);
}

#[test]
fn whoever_takes_a_call_is_told_of_what_follows() {
    let mut desk = Desk::new(json!({}));
    desk.look(0, &[alarm(1, 0, 3)]);
    let call = desk.only();
    assert_eq!(desk.book.take(call, "Shift lead", MINUTE), Ok(Order::End(call)));
    let again = desk.book.take(call, "Somebody else", MINUTE).unwrap_err().unwrap();
    assert_eq!(again.0.how, How::Taken { by: "Shift lead".into() });
    assert_eq!(desk.book.take(Uuid::nil(), "Nobody", 0), Err(None));
    assert_eq!(desk.look(6, &[alarm(1, 0, 3)]), [""; 0], "no further step");
    assert_eq!(desk.look(7, &[alarm(1, 0, 3), alarm(2, 7, 2)]), [""; 0], "too low for the plan");
    assert_eq!(desk.look(7, &[alarm(1, 0, 3), alarm(2, 7, 3)]), ["change", "more"]);
    assert_eq!(desk.look(8, &[alarm(1, 0, 3), alarm(2, 7, 3), alarm(3, 8, 3)]), ["change"], "not too often");
    assert_eq!(desk.look(9, &[alarm(4, 9, 4)]), ["change", "begin", "tell 0 in 0"], "more urgent: a call of its own");
    let mut later = Desk::new(json!({}));
    later.look(0, &[alarm(1, 0, 3)]);
    later.book.take(later.only(), "Shift lead", MINUTE).unwrap();
    assert_eq!(later.look(12, &[alarm(1, 0, 3), alarm(2, 12, 3)]), ["begin", "tell 0 in 0"]);
}

#[test]
fn a_flood_is_one_call() {
    let mut desk = Desk::new(json!({}));
    assert_eq!(desk.look(0, &[alarm(1, 0, 3)]), ["begin", "tell 0 in 0"]);
    let flood: Vec<Waiting> = (1..=40).map(|rule| alarm(rule, 0, 3)).collect();
    assert_eq!(desk.look(1, &flood), ["change"]);
    // The second step is due together with telling the first person more; the step's message tells everything.
    assert_eq!(desk.look(5, &flood), ["tell 1 in 0"]);
    let more: Vec<Waiting> = (1..=50).map(|rule| alarm(rule, 0, 3)).collect();
    assert_eq!(desk.look(6, &more), ["change"]);
    assert_eq!(desk.look(10, &more), ["more"]);
    assert_eq!(desk.look(11, &[more.as_slice(), &[alarm(60, 11, 4)]].concat()), ["change", "tell 0 in 0"], "more urgent");
}

#[test]
fn a_call_is_bounded_and_what_had_no_room_is_called_for_later() {
    let mut desk = Desk::new(json!({}));
    let flood: Vec<Waiting> = (0..5000).map(|rule| alarm(rule, 0, 3)).collect();
    desk.look(0, &flood);
    assert_eq!(desk.book.call(desk.only()).unwrap().alarms.len(), MOST_ALARMS);
    let urgent = [flood.as_slice(), &[alarm(9000, 1, 4)]].concat();
    assert_eq!(desk.look(1, &urgent), ["change", "tell 0 in 0"]);
    desk.book.take(desk.only(), "Shift lead", MINUTE).unwrap();
    assert_eq!(desk.look(10, &urgent), [""; 0]);
    assert_eq!(desk.look(12, &urgent), ["begin", "change", "tell 0 in 0"]);
}

#[rstest]
#[case::deleted(None)]
#[case::switched_off(Some(json!({"enabled": false})))]
fn a_call_without_a_plan_is_withdrawn(#[case] more: Option<Json>) {
    let mut desk = Desk::new(json!({}));
    desk.look(0, &[alarm(1, 0, 3)]);
    desk.plant = more.map_or_else(Plant::default, plant);
    assert_eq!(desk.look(1, &[alarm(1, 0, 3)]), ["end Withdrawn"]);
    assert_eq!(desk.look(2, &[alarm(1, 0, 3)]), [""; 0]);
    desk.plant = plant(json!({}));
    assert_eq!(desk.look(3, &[alarm(1, 0, 3)]), ["begin", "tell 0 in 0"]);
}

#[test]
fn a_step_that_reaches_nobody_takes_no_time() {
    let mut desk = Desk::new(json!({}));
    desk.look(0, &[alarm(1, 0, 3)]);
    desk.book.reached_nobody(desk.only(), 0);
    assert_eq!(desk.look(0, &[alarm(1, 0, 3)]), ["tell 1 in 0"]);
}

#[test]
fn a_call_waits_for_whoever_may_not_be_told_yet() {
    let mut desk = Desk::new(json!({"rounds": 1}));
    let waits = [alarm(1, 0, 3)];
    assert_eq!(desk.look(0, &waits), ["begin", "tell 0 in 0"]);
    // Both are in quiet hours: the first until minute 400, the second until minute 300.
    for (until, then) in [(400, vec!["tell 1 in 0"]), (300, vec!["hold"])] {
        desk.book.left_out(desk.only(), until * MINUTE);
        desk.book.reached_nobody(desk.only(), 0);
        assert_eq!(desk.look(0, &waits), then);
    }
    let call = desk.book.calls().next().unwrap().clone();
    assert!(call.is_held());
    assert_eq!((call.over, call.next_at, call.held, desk.book.wake()), (None, 300 * MINUTE, 1, MINUTE));
    // A restart goes on waiting, and what is more urgent does not wait.
    desk.book = restarted(&desk.book);
    assert!(desk.look(299, &waits).is_empty());
    assert_eq!(desk.look(300, &waits), ["tell 0 in 0"]);
    // Whoever was left out before may be told of what is more urgent.
    desk.book.left_out(desk.only(), 900 * MINUTE);
    let graver = [waits[0].clone(), alarm(2, 302, 4)];
    assert_eq!(desk.look(302, &graver), ["change", "tell 0 in 0"]);
    assert_eq!(desk.look(307, &graver), ["tell 1 in 0"]);
    // Everybody was told in this round: nobody is waited for any more.
    assert_eq!(desk.look(317, &graver), ["end Unanswered"]);
}

#[test]
fn a_call_does_not_wait_for_ever_and_a_test_never() {
    let mut desk = Desk::new(json!({"rounds": 1}));
    let waits = [alarm(1, 0, 3)];
    let mut all = desk.look(0, &waits);
    let mut minute = 0;
    while desk.book.calls().next().is_some_and(|call| call.over.is_none()) {
        desk.book.left_out(desk.only(), (minute + 500) * MINUTE);
        minute += 20;
        all.extend(desk.look(minute, &waits));
    }
    assert_eq!(all.iter().filter(|order| *order == "hold").count() as u32, MOST_HELD);
    let mut desk = Desk::new(json!({"rounds": 1}));
    desk.book.test(Uuid::from_u128(1), PLAN, &alarm(1, 0, 0), 0);
    assert_eq!(desk.look(0, &[alarm(1, 0, 0)]), ["tell 0 in 0"]);
    desk.book.left_out(desk.only(), 500 * MINUTE);
    desk.book.reached_nobody(desk.only(), 0);
    assert_eq!(desk.look(0, &[alarm(1, 0, 0)]), ["tell 1 in 0"]);
    assert_eq!(desk.look(10, &[alarm(1, 0, 0)]), ["end Unanswered"]);
}

#[test]
fn a_test_goes_through_all_steps_whatever_the_plan_is_for() {
    let mut desk = Desk::new(json!({"enabled": false, "lowest": 4}));
    let call = Uuid::from_u128(7);
    desk.book.test(call, PLAN, &alarm(1, 0, 1), 0);
    assert_eq!(desk.look(0, &[alarm(1, 0, 1)]), ["tell 0 in 0"]);
    assert_eq!(desk.look(5, &[alarm(1, 0, 1)]), ["tell 1 in 0"]);
    assert_eq!(desk.look(6, &[]), ["end Acknowledged"]);
}

#[test]
fn hours_say_when_a_plan_applies() {
    let window = json!({"days": ["thursday"], "from": "00:10", "to": "00:30"});
    let mut desk = Desk::new(json!({"hours": {"zone": "UTC", "windows": [window]}}));
    // 1970-01-01 was a Thursday.
    assert_eq!(desk.look(9, &[alarm(1, 0, 3)]), [""; 0]);
    assert_eq!(desk.look(10, &[alarm(1, 0, 3)]), ["begin", "tell 0 in 0"]);
    desk.look(15, &[alarm(1, 0, 3)]);
    assert_eq!(desk.look(31, &[alarm(1, 0, 3)]), ["tell 0 in 1"], "a call that goes on goes on");
}

#[test]
fn a_clock_that_is_set_back_holds_up_nobody() {
    let mut desk = Desk::new(json!({}));
    desk.look(60, &[alarm(1, 60, 3)]);
    assert_eq!(desk.look(2, &[alarm(1, 60, 3)]), [""; 0], "set back by an hour, two minutes later");
    assert_eq!(desk.look(7, &[alarm(1, 60, 3)]), ["tell 1 in 0"]);
}

fn restarted(book: &Book) -> Book {
    let answered = book.answered.iter().map(|(&(plan, rule), &at)| (plan, rule, at));
    Book::of(book.calls().cloned(), answered.collect::<Vec<_>>())
}

proptest! {
    /// Whatever waits: each message belongs to a call that goes on, no call tells more often than its plan says, what concerns the plan
    /// is in a call, was answered or finds no room, and a restart at any point changes nothing.
    #[test]
    fn nobody_is_forgotten_and_nobody_told_without_end(
        turns in prop::collection::vec((0_i64..4, prop::collection::vec((0_u128..6, 3_u8..=4), 0..5), 0_u8..12), 1..60)
    ) {
        let mut desk = Desk::new(json!({}));
        let mut twin = Book::default();
        let (mut minute, mut raised) = (0, HashMap::new());
        let mut told: HashMap<Uuid, u32> = HashMap::new();
        for (passed, standing, act) in turns {
            minute += passed;
            raised.retain(|rule, _| standing.iter().any(|(one, _)| one == rule));
            let mut waiting: Vec<Waiting> = Vec::new();
            for (rule, priority) in standing {
                let at = *raised.entry(rule).or_insert(minute);
                if waiting.iter().all(|one| one.rule != Uuid::from_u128(rule)) {
                    waiting.push(alarm(rule, at, priority));
                }
            }
            let mut first = desk.made;
            let orders = { desk.look(minute, &waiting); twin.look(minute * MINUTE, &desk.plant, &waiting, &mut || { first += 1; Uuid::from_u128(first) }) };
            for order in &orders {
                if let Order::Tell { call, .. } = order {
                    let known = desk.book.call(*call);
                    prop_assert!(known.is_some_and(|call| call.over.is_none()));
                    *told.entry(*call).or_default() += 1;
                }
            }
            prop_assert_eq!(desk.book.calls().collect::<Vec<_>>(), twin.calls().collect::<Vec<_>>());
            for alarm in &waiting {
                let in_call = desk.book.calls().any(|call| call.alarms.get(&alarm.rule).is_some_and(|c| c.raised_at == alarm.raised_at));
                let answered = desk.book.answered.get(&(PLAN, alarm.rule)) == Some(&alarm.raised_at);
                prop_assert!(in_call || answered);
            }
            let open = desk.book.calls().find(|call| call.over.is_none()).map(|call| call.id);
            if act == 0 && let Some(call) = open {
                desk.book.take(call, "Somebody", minute * MINUTE).unwrap();
                twin.take(call, "Somebody", minute * MINUTE).unwrap();
            }
            if act < 4 {
                let looked_at = twin.looked_at;
                twin = Book { looked_at, ..restarted(&twin) };
            }
        }
        // Each urgent alarm that joins begins the steps anew, and there are six rules.
        prop_assert!(told.values().all(|&count| count <= 2 * 2 * 7));
    }
}
