use super::*;
use crate::time::{from_text, to_local};
use rstest::rstest;
use serde_json::{Value as Json, json};

const REPORT: Uuid = Uuid::from_u128(1);
const FOLDER: Uuid = Uuid::from_u128(2);
const LEVEL: Uuid = Uuid::from_u128(3);
const PATTERN: Uuid = Uuid::from_u128(4);
const ZONE: &str = "Europe/Oslo";

fn plant() -> Plant {
    let mut plant = Plant::default();
    let own = |json: Json| json.as_object().unwrap().clone();
    let crew = Uuid::from_u128(9);
    let pattern = json!({
        "name": "Two shifts", "zone": ZONE, "begins": "2026-01-05",
        "shifts": [{"name": "Day", "from": "06:00", "to": "18:00"}, {"name": "Night", "from": "18:00", "to": "06:00"}],
        "crews": [{"id": crew, "name": "A", "people": []}], "rotation": [[crew, crew]],
    });
    plant.put(Kind::ShiftPattern, PATTERN, 0, 1, own(pattern)).unwrap();
    plant.put(Kind::Place, Uuid::from_u128(8), 0, 1, own(json!({"name": "Works"}))).unwrap();
    plant.put(Kind::Connection, FOLDER, 0, 1, own(json!({"name": "Share", "kind": "folder"}))).unwrap();
    plant.put(Kind::Tag, LEVEL, 1, 1, own(json!({"name": "Level", "place": Uuid::from_u128(8), "unit": "%"}))).unwrap();
    let sections = json!([{"kind": "values", "tags": [LEVEL]}, {"kind": "trend", "tags": [LEVEL]}]);
    let report = json!({"name": "Shift", "zone": ZONE, "minutes": 90, "sections": sections});
    plant.put(Kind::Report, REPORT, 0, 1, own(report)).unwrap();
    plant
}

fn dispatch(more: Json) -> Dispatch {
    let mut own = json!({"name": "Morning", "report": REPORT});
    own.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    serde_json::from_value(own).unwrap()
}

fn at(text: &str) -> Nanos {
    from_text(text).unwrap()
}

#[rstest]
#[case::own(json!({}), "2026-12-01T05:00:00Z", "2026-12-01 04:30:00 CET", "2026-12-01 06:00:00 CET")]
#[case::hour(json!({"covers": "hour"}), "2026-12-01T05:40:00Z", "2026-12-01 05:00:00 CET", "2026-12-01 06:00:00 CET")]
#[case::day(json!({"covers": "day"}), "2026-12-01T05:00:00Z", "2026-11-30 00:00:00 CET", "2026-12-01 00:00:00 CET")]
#[case::at_midnight(json!({"covers": "day"}), "2026-11-30T23:00:00Z", "2026-11-30 00:00:00 CET", "2026-12-01 00:00:00 CET")]
#[case::a_day_of_23_hours(json!({"covers": "day"}), "2026-03-30T05:00:00Z", "2026-03-29 00:00:00 CET", "2026-03-30 00:00:00 CEST")]
#[case::a_day_of_25_hours(json!({"covers": "day"}), "2026-10-26T05:00:00Z", "2026-10-25 00:00:00 CEST", "2026-10-26 00:00:00 CET")]
#[case::week(json!({"covers": "week"}), "2026-12-01T05:00:00Z", "2026-11-23 00:00:00 CET", "2026-11-30 00:00:00 CET")]
#[case::on_a_monday(json!({"covers": "week"}), "2026-11-30T05:00:00Z", "2026-11-23 00:00:00 CET", "2026-11-30 00:00:00 CET")]
#[case::month(json!({"covers": "month"}), "2027-01-01T05:00:00Z", "2026-12-01 00:00:00 CET", "2027-01-01 00:00:00 CET")]
#[case::shift(json!({"covers": "shift", "shifts": PATTERN}), "2026-12-01T10:00:00Z", "2026-11-30 18:00:00 CET", "2026-12-01 06:00:00 CET")]
fn a_report_covers_what_is_over(#[case] more: Json, #[case] made: &str, #[case] from: &str, #[case] to: &str) {
    let plant = plant();
    let dispatch = dispatch(more);
    let shifts = plant.shifts_of_dispatch(&dispatch);
    let period = dispatch.period(at(made), &plant.reports[&REPORT].set, shifts).unwrap();
    assert_eq!((to_local(period.0, ZONE), to_local(period.1, ZONE)), (from.to_owned(), to.to_owned()));
}

fn due(more: Json, since: &str, until: &str) -> (Vec<String>, usize) {
    let plant = plant();
    let dispatch = dispatch(more);
    let due = dispatch.due(at(since), at(until), ZONE, plant.shifts_of_dispatch(&dispatch));
    (due.at.iter().map(|at| to_local(*at, ZONE)[5..16].to_owned()).collect(), due.left_out)
}

#[rstest]
#[case::nothing_yet("all", "2026-12-01T05:00:00Z", "2026-12-02T04:59:59Z", &[], 0)]
#[case::on_time("none", "2026-12-01T05:00:00Z", "2026-12-02T05:00:01Z", &["12-02 06:00"], 0)]
#[case::all_of_three_days("all", "2026-12-01T05:00:00Z", "2026-12-04T08:00:00Z", &["12-02 06:00", "12-03 06:00", "12-04 06:00"], 0)]
#[case::the_last("last", "2026-12-01T05:00:00Z", "2026-12-04T08:00:00Z", &["12-04 06:00"], 2)]
#[case::none_of_them("none", "2026-12-01T05:00:00Z", "2026-12-04T08:00:00Z", &[], 3)]
#[case::the_last_is_on_time("last", "2026-12-01T05:00:00Z", "2026-12-04T05:01:00Z", &["12-04 06:00"], 2)]
#[case::the_clock_went_back("all", "2026-12-04T05:00:00Z", "2026-12-01T05:00:00Z", &[], 0)]
fn what_a_stop_missed_is_caught_up_as_is_said(
    #[case] missed: &str,
    #[case] since: &str,
    #[case] until: &str,
    #[case] expected: &[&str],
    #[case] left_out: usize,
) {
    let when = json!({"when": {"on": "schedule", "cron": "0 6 * * *", "missed": missed}});
    assert_eq!(due(when, since, until), (expected.iter().map(|text| (*text).to_owned()).collect(), left_out));
}

#[test]
fn what_was_missed_is_bounded_and_shifts_end_like_a_schedule() {
    let minutely = json!({"when": {"on": "schedule", "cron": "* * * * *"}});
    let (made, left_out) = due(minutely, "2026-01-01T00:00:00Z", "2026-12-01T00:00:00Z");
    assert_eq!((made.len(), left_out), (100 + 3, 31 * 1440 - 3 - 100), "{:?}", made.last());
    let shift = json!({"when": {"on": "shift"}, "shifts": PATTERN});
    assert_eq!(due(shift, "2026-12-01T05:00:00Z", "2026-12-02T05:00:00Z").0, ["12-01 18:00", "12-02 06:00"]);
    assert_eq!(due(json!({}), "2026-12-01T05:00:00Z", "2026-12-02T05:00:00Z").0, Vec::<String>::new());
}

#[rstest]
#[case("{report} {to}", "Shift 1_2 2026-12-01 0600.pdf")]
#[case("{place}/{date}/{dispatch} {time}", "EX-1/2026-12-01/Morning 0600.pdf")]
#[case("../../etc/{from}", "etc/2026-11-30 1800.pdf")]
#[case(" /./..", "report.pdf")]
#[case("a\\b:c*d?e\u{202e}f\n", "a_b_c_d_e_f_.pdf")]
fn a_file_is_called_by_its_pattern(#[case] file: &str, #[case] expected: &str) {
    let delivery = Delivery { connection: FOLDER, to: Vec::new(), file: file.into(), formats: vec![Format::Pdf] };
    let (from, to) = (at("2026-11-30T17:00:00Z"), at("2026-12-01T05:00:00Z"));
    let words = Words { report: "Shift 1/2", place: "EX-1", dispatch: "Morning", from, to, zone: ZONE };
    assert_eq!(delivery.file_name(&words, Format::Pdf), expected);
}

#[rstest]
#[case::by_hand(json!({}), &[])]
#[case::no_cron(json!({"when": {"on": "schedule", "cron": "6 o'clock"}}), &["when.cron"])]
#[case::never(json!({"when": {"on": "schedule", "cron": "0 0 31 2 *"}}), &["when.cron"])]
#[case::no_pattern(json!({"when": {"on": "shift"}}), &["shifts"])]
#[case::no_pattern_for_its_period(json!({"covers": "shift"}), &["shifts"])]
#[case::no_trigger(json!({"when": {"on": "event"}}), &["trigger"])]
#[case::a_trigger(json!({"when": {"on": "event"}, "trigger": {"text": format!("at(\"{LEVEL}\") > 80.0")}}), &[])]
#[case::no_condition(json!({"when": {"on": "event"}, "trigger": {"text": format!("at(\"{LEVEL}\") + 1.0")}}), &["trigger.text"])]
#[case::a_trigger_too_many(json!({"trigger": {"text": "true"}}), &["trigger"])]
#[case::nothing_to_send(json!({"deliveries": [{"connection": FOLDER, "to": ["a@b"], "formats": []}]}), &["deliveries[0].formats"])]
#[case::twice(json!({"deliveries": [{"connection": FOLDER, "to": ["a@b"], "formats": ["pdf", "pdf"]}]}), &["deliveries[0].formats"])]
#[case::to_nobody(json!({"deliveries": [{"connection": FOLDER, "formats": ["pdf"]}]}), &["deliveries[0].to"])]
#[case::no_address(json!({"deliveries": [{"connection": FOLDER, "to": ["crew"], "formats": ["pdf"]}]}), &["deliveries[0].to"])]
#[case::braces(json!({"deliveries": [{"connection": FOLDER, "to": ["a@b"], "file": "{batch}", "formats": ["pdf"]}]}), &["deliveries[0].file"])]
#[case::half_a_brace(json!({"deliveries": [{"connection": FOLDER, "to": ["a@b"], "file": "x}", "formats": ["pdf"]}]}), &["deliveries[0].file"])]
fn what_is_wrong_is_told(#[case] more: Json, #[case] fields: &[&str]) {
    let mut wrong = Wrong::new();
    let item = Item { id: Uuid::nil(), no: 0, revision: 1, own: Default::default(), set: dispatch(more) };
    Dispatch::check(&item, &Checking::new(&plant(), &()), &mut wrong);
    assert_eq!(wrong.into_iter().map(|(field, _)| field).collect::<Vec<_>>(), fields);
}

#[test]
fn the_tags_of_its_report_are_told_once() {
    let plant = plant();
    assert_eq!(plant.dispatched_tags(&dispatch(json!({}))).iter().map(|tag| tag.id).collect::<Vec<_>>(), [LEVEL]);
}
