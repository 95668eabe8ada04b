//! Lookups made ready: their columns, their steps, their conditions, and what is wrong with them.

use super::*;
use crate::{
    history::Unit,
    plant::{Kind, Stored},
    sample::Value,
    time::from_text,
};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value as Json, json};

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

fn plant() -> Plant {
    let item = |kind, n: u128, own: Json| {
        let own = own.as_object().unwrap().clone();
        Stored { kind, id: id(n), no: n as u32, revision: 1, own }
    };
    let names = json!({"name": "Valve", "states": [{"value": 0, "name": "closed"}, {"value": 1, "name": "open"}]});
    let (plant, broken) = Plant::from_stored(
        1,
        vec![
            item(Kind::Place, 1, json!({"name": "Extraction"})),
            item(Kind::States, 2, names),
            item(Kind::Tag, 10, json!({"name": "Level", "place": id(1), "unit": "%"})),
            item(Kind::Tag, 9, json!({"name": "Level 10", "place": id(1), "unit": "%"})),
            item(Kind::Tag, 8, json!({"name": "Level 9", "place": id(1), "unit": "%", "decimals": 2})),
            item(Kind::Tag, 11, json!({"name": "Drain valve", "place": id(1), "states": id(2)})),
        ],
    );
    assert_eq!(broken, []);
    plant
}

fn ready(lookup: Json) -> Result<Table, Vec<(String, String)>> {
    let mut whole = json!({"tags": [id(10)], "period": {"last_s": 3600.0}});
    for (key, value) in lookup.as_object().unwrap() {
        whole[key] = value.clone();
    }
    Table::of(&plant(), serde_json::from_value(whole).unwrap(), from_text("2026-11-30T10:00:30Z").unwrap())
}

fn titles(lookup: Json) -> Vec<String> {
    ready(lookup).unwrap().columns.into_iter().map(|column| column.title).collect()
}

#[test]
fn columns_say_what_stands_in_them() {
    let every = json!({"count": 15, "unit": "minute"});
    assert_eq!(titles(json!({})), ["Time", "Extraction/Level"]);
    assert_eq!(titles(json!({"qualities": true})), ["Time", "Extraction/Level", "Extraction/Level, quality"]);
    assert_eq!(titles(json!({"shape": "long"})), ["Time", "Tag", "Value", "Unit", "Quality", "Marks"]);
    let spans = json!({"of": "spans", "every": every, "figures": ["maximum", "average", "states"]});
    assert_eq!(
        titles(json!({"rows": spans, "tags": [id(10), id(11)]})),
        [
            "From",
            "To",
            "Extraction/Level, average",
            "Extraction/Level, maximum",
            "Extraction/Drain valve, average",
            "Extraction/Drain valve, maximum",
            "Extraction/Drain valve, time “closed”",
            "Extraction/Drain valve, time “open”",
        ]
    );
    let long = json!({"of": "spans", "every": every, "figures": ["good", "first"]});
    assert_eq!(titles(json!({"rows": long, "shape": "long"})), ["From", "To", "Tag", "First", "Good", "Unit"]);
}

#[test]
fn tags_stand_as_they_were_chosen_and_then_by_path() {
    let table = ready(json!({"tags": [id(11), id(11)], "choices": [{"unit": "%"}]})).unwrap();
    assert_eq!(table.tags.iter().map(|tag| tag.no).collect::<Vec<_>>(), [11, 10, 8, 9]);
    assert_eq!(table.columns[3].decimals, 2);
}

#[rstest]
#[case::no_tags(json!({"tags": []}), "tags")]
#[case::a_tag_that_is_gone(json!({"tags": [id(10), id(77)]}), "tags")]
#[case::no_period(json!({"period": {}}), "period.last_s")]
#[case::both_periods(json!({"period": {"last_s": 60.0, "from": "2026-11-30T10:00:00Z", "to": "2026-11-30T11:00:00Z"}}), "period.last_s")]
#[case::no_length(json!({"period": {"last_s": 0.0}}), "period.last_s")]
#[case::backwards(json!({"period": {"from": "2026-11-30T11:00:00Z", "to": "2026-11-30T10:00:00Z"}}), "period.to")]
#[case::no_time(json!({"period": {"from": "yesterday", "to": "2026-11-30T10:00:00Z"}}), "period.from")]
#[case::no_figures(json!({"rows": {"of": "spans", "every": {"count": 1, "unit": "hour"}, "figures": []}}), "rows.figures")]
#[case::no_step(json!({"rows": {"of": "instants", "every": {"count": 0, "unit": "hour"}}}), "rows.every.count")]
#[case::too_many(json!({"period": {"last_s": 864_000.0}, "rows": {"of": "instants", "every": {"count": 50, "unit": "millisecond"}}}), "rows.every.count")]
#[case::states_in_long(json!({"shape": "long", "rows": {"of": "spans", "every": {"count": 1, "unit": "hour"}, "figures": ["states"]}}), "rows.figures")]
#[case::quality_of_spans(json!({"quality": "good", "rows": {"of": "spans", "every": {"count": 1, "unit": "hour"}, "figures": ["last"]}}), "quality")]
#[case::no_zone(json!({"zone": "Here/There"}), "zone")]
#[case::no_condition(json!({"condition": {"text": format!("at(\"{}\") + 1.0", id(10))}}), "condition")]
#[case::looks_back(json!({"condition": {"text": format!("avg(at(\"{}\"), \"5min\") > 1.0", id(10))}}), "condition")]
#[case::another_tag(json!({"condition": {"text": format!("at(\"{}\") > 1.0", id(8))}}), "condition")]
fn what_is_wrong_is_told_at_its_field(#[case] lookup: Json, #[case] field: &str) {
    let wrong = ready(lookup).unwrap_err();
    assert_eq!(wrong.iter().map(|(field, _)| field.as_str()).collect::<Vec<_>>(), [field], "{wrong:?}");
    assert!(wrong[0].1.ends_with(['.', ':']) || wrong[0].1.contains(' '), "{wrong:?}");
}

fn steps(from: &str, to: &str, count: u32, unit: Unit, bounds: bool) -> Vec<String> {
    let at = |text| from_text(text).unwrap();
    let steps = Steps::within(at(from), at(to), Every { count, unit }, "Europe/Oslo", bounds, 1000).unwrap();
    assert_eq!(steps.at(steps.len()), None);
    steps.some(0, 1000).into_iter().map(crate::time::to_text).collect()
}

#[test]
fn steps_are_even_on_the_clock_and_in_the_calendar() {
    let texts = |all: Vec<String>| all.join(" ").replace("2026-", "").replace(":00Z", "");
    assert_eq!(
        texts(steps("2026-11-30T09:59:30Z", "2026-11-30T10:45:00Z", 15, Unit::Minute, false)),
        "11-30T10:00 11-30T10:15 11-30T10:30"
    );
    // What cuts a period begins and ends with it.
    assert_eq!(
        texts(steps("2026-11-30T09:55:00Z", "2026-11-30T10:20:00Z", 15, Unit::Minute, true)),
        "11-30T09:55 11-30T10:00 11-30T10:15 11-30T10:20"
    );
    assert_eq!(texts(steps("2026-11-30T10:00:00Z", "2026-11-30T10:15:00Z", 15, Unit::Minute, true)), "11-30T10:00 11-30T10:15");
    // The clocks go back at 01:00 UTC of 2026-10-25: that day has 25 hours, and eight hours of the clock are nine.
    assert_eq!(
        texts(steps("2026-10-23T22:00:00Z", "2026-10-26T23:00:00Z", 1, Unit::Day, true)),
        "10-23T22:00 10-24T22:00 10-25T23:00 10-26T23:00"
    );
    assert_eq!(
        texts(steps("2026-10-24T22:00:00Z", "2026-10-25T23:00:00Z", 8, Unit::Hour, true)),
        "10-24T22:00 10-25T07:00 10-25T15:00 10-25T23:00"
    );
    // Weeks begin on Monday, and three months are a quarter.
    assert_eq!(texts(steps("2026-11-29T12:00:00Z", "2026-12-08T12:00:00Z", 1, Unit::Week, false)), "11-29T23:00 12-06T23:00");
    assert_eq!(texts(steps("2026-02-01T00:00:00Z", "2026-08-01T00:00:00Z", 3, Unit::Month, false)), "03-31T22:00 06-30T22:00");
    assert_eq!(steps("2026-02-01T00:00:00Z", "2026-02-01T00:00:01Z", 1, Unit::Month, false), Vec::<String>::new());
}

proptest! {
    #[test]
    fn steps_rise_within_their_period_and_cut_it_whole(
        from in 0i64..4_000_000_000, length in 1i64..200_000_000, count in 1u32..500, unit in 0usize..6, bounds in any::<bool>()
    ) {
        let units = [Unit::Second, Unit::Minute, Unit::Hour, Unit::Day, Unit::Week, Unit::Month];
        let (from, to) = (from * SECOND, (from + length) * SECOND);
        let every = Every { count, unit: units[unit] };
        let Some(steps) = Steps::within(from, to, every, "Europe/Oslo", bounds, 50_000) else { return Ok(()) };
        let all = steps.some(0, usize::MAX);
        prop_assert_eq!(all.len() as u64, steps.len());
        prop_assert!(all.windows(2).all(|two| two[0] < two[1]));
        if bounds {
            prop_assert_eq!((all[0], *all.last().unwrap()), (from, to));
        } else {
            prop_assert!(all.iter().all(|at| (from..to).contains(at)));
        }
        // Where a page begins makes no difference.
        prop_assert_eq!(&all[all.len() / 2..], &steps.some(all.len() as u64 / 2, usize::MAX)[..]);
    }
}

#[test]
fn a_condition_compares_columns_and_drops_what_it_cannot_tell() {
    let text = format!("at(\"{}\") > at(\"{}\")", id(10), id(8));
    let table = ready(json!({"tags": [id(8), id(10)], "condition": {"text": text}})).unwrap();
    assert!(table.needs_held() && table.rows().is_none());
    let mut filter = table.filter();
    assert!(!filter.stays(0), "nothing is known yet");
    filter.know(0, Some(Value::F64(1.0)), Quality::GOOD);
    filter.know(1, Some(Value::F32(1.5)), Quality::GOOD);
    assert!(filter.stays(1));
    filter.know(0, Some(Value::U64(2)), Quality::GOOD);
    assert!(!filter.stays(2));
}

#[rstest]
#[case(Value::F64(10.0), Value::I64(20), Some(12.5))]
#[case(Value::Bool(false), Value::Bool(true), None)]
#[case(Value::Text("a".into()), Value::F64(1.0), None)]
fn a_line_runs_between_numbers(#[case] first: Value, #[case] last: Value, #[case] expected: Option<f64>) {
    assert_eq!(between((100, &first), (140, &last), 110), expected);
}

#[test]
fn how_many_rows_there_are_is_known_where_they_are_even() {
    let every = json!({"count": 10, "unit": "minute"});
    let instants = json!({"of": "instants", "every": every});
    assert_eq!(ready(json!({"rows": instants})).unwrap().rows(), Some(6));
    let long = json!({"rows": instants, "shape": "long", "tags": [id(8), id(9)]});
    assert_eq!(ready(long).unwrap().rows(), Some(12));
    let spans = json!({"of": "spans", "every": every, "figures": ["last"]});
    assert_eq!(ready(json!({"rows": spans})).unwrap().rows(), Some(7), "the first and the last are shorter");
    assert_eq!(ready(json!({})).unwrap().rows(), None);
}

#[test]
fn sums_count_numbers_and_what_is_filled() {
    let mut sums = Sums::new(2);
    sums.see(&[Entry::Value(Value::F64(1.0)), Entry::Text("good".into())]);
    sums.see(&[Entry::Value(Value::F64(f64::NAN)), Entry::Nothing]);
    sums.see(&[Entry::Number(4.0.into()), Entry::Nothing]);
    let first = &sums.columns[0];
    assert_eq!((sums.rows, first.filled, first.numbers, first.minimum, first.maximum), (3, 3, 2, Some(1.0), Some(4.0)));
    assert_eq!((first.average(), sums.columns[1].filled, sums.columns[1].average()), (Some(2.5), 1, None));
}
