use super::*;
use crate::plant::{Edit, Stored, edit::apply};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::json;

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

fn plant() -> Plant {
    let item =
        |kind, n: u128, own: Json| Stored { kind, id: id(n), no: n as u32, revision: 3, own: own.as_object().unwrap().clone() };
    let groups = json!([{"id": id(70), "name": "Slow", "interval_ms": 5000}]);
    let (plant, broken) = Plant::from_stored(
        5,
        vec![
            item(Kind::Place, 1, json!({"name": "Works", "level": "site"})),
            item(Kind::Place, 2, json!({"name": "EX-1", "parent": id(1)})),
            item(Kind::Place, 3, json!({"name": "EX-2", "parent": id(1)})),
            item(
                Kind::States,
                5,
                json!({"name": "Motor", "states": [{"value": 0, "name": "Stopped"}, {"value": 2, "name": "Jammed"}]}),
            ),
            item(Kind::Connection, 7, json!({"name": "Extraction", "kind": "modbus", "groups": groups})),
            item(Kind::Connection, 8, json!({"name": "Wash", "kind": "modbus"})),
            item(
                Kind::Tag,
                10,
                json!({"name": "Level", "place": id(2), "unit": "%", "connection": id(7), "group": id(70), "setpoint": id(11),
                       "point": {"address": "40001", "type": "u16", "more": 1},
                       "scaling": {"raw_low": 0.0, "raw_high": 1000.0, "low": 0.0, "high": 100.0}}),
            ),
            item(Kind::Tag, 11, json!({"name": "Level setpoint", "place": id(2), "states": id(5)})),
            item(Kind::Tag, 12, json!({"name": "Level", "place": id(3)})),
            item(Kind::Rule, 21, json!({"tag": id(11), "kind": "high", "level": 1.0})),
            item(Kind::Rule, 20, json!({"tag": id(10), "kind": "high", "level": 80.5})),
        ],
    );
    assert!(broken.is_empty(), "{broken:?}");
    plant
}

/// Ids for what rows make beside their own items.
fn ids() -> impl FnMut() -> Uuid {
    let mut next = 1000;
    move || {
        next += 1;
        id(next)
    }
}

fn cell(column: &str, text: &str) -> Written {
    Written { column: column.into(), text: text.into(), was: None }
}

fn row(n: u128, cells: &[(&str, &str)]) -> Row {
    Row { id: id(n), fresh: false, cells: cells.iter().map(|(c, t)| cell(c, t)).collect() }
}

fn shown(plant: &Plant, kind: Kind, n: u128, key: &str) -> String {
    let at = columns(kind).iter().position(|c| c.key == key).unwrap();
    cells(plant, kind, id(n)).swap_remove(at)
}

#[rstest]
#[case(Kind::Tag, 10, "place", "Works/EX-1")]
#[case(Kind::Tag, 10, "connection", "Extraction")]
#[case(Kind::Tag, 10, "group", "Slow")]
#[case(Kind::Tag, 10, "setpoint", "Level setpoint")]
#[case(Kind::Tag, 10, "source", r#"{"more":1}"#)]
#[case(Kind::Tag, 10, "raw_high", "1000")]
#[case(Kind::Tag, 10, "record", "no")]
#[case(Kind::Tag, 11, "raw_high", "")]
#[case(Kind::Tag, 11, "states", "Motor")]
#[case(Kind::Tag, 10, "states", "")]
#[case(Kind::Rule, 20, "tag", "Works/EX-1/Level")]
#[case(Kind::Rule, 20, "level", "80.5")]
#[case(Kind::Place, 3, "parent", "Works")]
#[case(Kind::Place, 1, "parent", "")]
fn a_cell_says_what_people_know(#[case] kind: Kind, #[case] n: u128, #[case] key: &str, #[case] wanted: &str) {
    assert_eq!(shown(&plant(), kind, n, key), wanted);
}

/// What one written cell makes of the plant, seen in another cell.
fn written(kind: Kind, n: u128, cells: &[(&str, &str)]) -> Result<Plant, Vec<Trouble>> {
    let plant = plant();
    let edits = plan(&plant, kind, &[row(n, cells)], &mut ids())?;
    let plain: Vec<Edit> = edits.iter().map(|e| e.edit.clone()).collect();
    match apply(&plant, &plain, &(), || 0) {
        Ok((next, _)) => Ok(next),
        Err(problems) => Err(troubles(kind, &[row(n, cells)], &edits, problems)),
    }
}

#[rstest]
#[case::comma(10, &[("range_high", "82,5")], "range_high", "82.5")]
#[case::spaces_in_a_path(10, &[("place", " Works / EX-2 "), ("name", "Level 2")], "place", "Works/EX-2")]
#[case::setpoint_from_afar(10, &[("setpoint", "Works/EX-2/Level")], "setpoint", "Works/EX-2/Level")]
#[case::back_to_none(10, &[("setpoint", "")], "setpoint", "")]
#[case::ticked(11, &[("record", "x")], "record", "yes")]
#[case::a_type_without_a_wire(11, &[("type", "switch")], "type", "switch")]
#[case::a_zero_that_spreadsheets_drop(11, &[("address", "00001")], "address", "0x0001")]
#[case::a_plain_address(11, &[("address", "012")], "address", "012")]
#[case::unit_by_its_open_code(11, &[("unit", "Cel")], "unit", "°C")]
#[case::unit_by_its_trade_code(11, &[("unit", "MQH")], "unit", "m³/h")]
#[case::unit_of_ones_own(11, &[("unit", "boxes/shift")], "unit", "boxes/shift")]
#[case::no_unit(10, &[("unit", "")], "unit", "")]
#[case::state_names(10, &[("states", "Motor")], "states", "Motor")]
#[case::no_state_names(11, &[("states", "")], "states", "")]
#[case::words(11, &[("record_mode", "Each poll")], "record_mode", "each_poll")]
#[case::a_group_of_the_connection_beside_it(11, &[("group", "Slow"), ("connection", "Extraction")], "group", "Slow")]
#[case::one_field_of_a_point(10, &[("address", "40002")], "source", r#"{"more":1}"#)]
#[case::no_scaling_is_left(10, &[("raw_low", ""), ("raw_high", ""), ("low", ""), ("high", "")], "curve", "")]
fn what_is_written_is_what_it_shows(#[case] n: u128, #[case] cells: &[(&str, &str)], #[case] key: &str, #[case] wanted: &str) {
    let next = written(Kind::Tag, n, cells).unwrap();
    assert_eq!(shown(&next, Kind::Tag, n, key), wanted);
}

#[rstest]
#[case(10, &[("place", "Works/EX-9")], "place", "There is no place “Works/EX-9”.")]
#[case(10, &[("connection", "Nowhere")], "connection", "There is no connection “Nowhere”.")]
#[case(10, &[("connection", "Wash"), ("group", "Fast")], "group", "Wash has no group “Fast”.")]
#[case(10, &[("states", "Valve")], "states", "There is no set of state names “Valve”.")]
#[case(10, &[("range_low", "much")], "range_low", "“much” is not a number; write it like 82.5.")]
#[case(10, &[("range_low", "1.234,5")], "range_low", "“1.234,5” is not a number; write it like 82.5.")]
#[case(10, &[("limit_high", "hot")], "limit_high", "“hot” is not a number; write it like 82.5.")]
#[case(10, &[("limit_low_priority", "2")], "limit_low_priority", "There is no limit low to set this for; type its level too.")]
#[case(10, &[("limit_high", ""), ("limit_high_deadband", "2")], "limit_high", "There is no limit high to set this for; type its level too.")]
#[case(10, &[("limit_high_priority", "7")], "limit_high_priority", "This must lie between 0 and 4.")]
#[case(10, &[("limit_high_on_delay_s", "-1")], "limit_high_on_delay_s", "This must lie between 0 and 86400.")]
#[case(10, &[("limit_high_priority", "2.5")], "limit_high_priority", "“2.5” is not a whole number.")]
#[case(10, &[("range_high", "9007199254740993")], "range_high",
    "“9007199254740993” has more digits than a setting keeps; the nearest number that it keeps is 9007199254740992.")]
#[case(10, &[("decimals", "-1")], "decimals", "“-1” is not a whole number.")]
#[case(10, &[("decimals", "12")], "decimals", "This must lie between 0 and 9.")]
#[case(10, &[("record", "maybe")], "record", "“maybe” is neither yes nor no.")]
#[case(10, &[("colour", "red")], "colour", "There is no such column.")]
#[case(10, &[("name", "Level setpoint")], "name", "There is already a tag “Level setpoint” here.")]
#[case(10, &[("name", "a/b")], "name", "A name must not contain “/” or control characters; “/” separates places in a path.")]
#[case(10, &[("raw_high", "0")], "raw_high", "The two raw values must differ.")]
#[case(10, &[("source", "[1]")], "source", "This must be a JSON object, like {\"block\": …}.")]
#[case(99, &[("name", "x")], "", "This item does not exist any more.")]
fn what_is_wrong_is_told_at_its_cell(#[case] n: u128, #[case] cells: &[(&str, &str)], #[case] column: &str, #[case] words: &str) {
    let told = written(Kind::Tag, n, cells).unwrap_err();
    assert_eq!((told[0].column.as_str(), told[0].message.as_str()), (column, words), "{told:?}");
}

#[rstest]
#[case("jammed", Ok("2"))]
#[case("1.5", Ok("1.5"))]
#[case("asleep", Err("“asleep” is not a number; write it like 82.5."))]
fn a_limit_is_a_number_or_a_state_of_its_tag(#[case] text: &str, #[case] wanted: Result<&str, &str>) {
    let told = written(Kind::Rule, 21, &[("level", text)]).map(|next| shown(&next, Kind::Rule, 21, "level"));
    assert_eq!(told.map_err(|t| t[0].message.clone()), wanted.map(str::to_owned).map_err(str::to_owned));
}

#[rstest]
#[case::moved(10, &[("limit_high", "75")], "limit_high", "75", 2)]
#[case::made(10, &[("limit_low_low", "5,5")], "limit_low_low", "5.5", 3)]
#[case::taken_away(10, &[("limit_high", "")], "limit_high", "", 1)]
#[case::by_the_name_of_a_state(11, &[("limit_high", "Jammed")], "limit_high", "2", 2)]
#[case::a_part_of_it(10, &[("limit_high_priority", "4")], "limit_high_priority", "4", 2)]
#[case::several_parts(10, &[("limit_high_deadband", "1,5"), ("limit_high_off_delay_s", "3")], "limit_high_deadband", "1.5", 2)]
#[case::made_with_its_parts(10, &[("limit_low", "5"), ("limit_low_priority", "1")], "limit_low_priority", "1", 3)]
#[case::back_to_the_default(10, &[("limit_high_priority", "")], "limit_high_priority", "2", 2)]
#[case::gone_with_its_parts(10, &[("limit_high", ""), ("limit_high_priority", "")], "limit_high_priority", "", 1)]
#[case::of_a_set_chosen_in_the_same_row(10, &[("limit_low", "Stopped"), ("states", "Motor")], "limit_low", "0", 3)]
fn limits_are_written_in_the_row_of_their_tag(
    #[case] n: u128,
    #[case] cells: &[(&str, &str)],
    #[case] key: &str,
    #[case] wanted: &str,
    #[case] rules: usize,
) {
    let next = written(Kind::Tag, n, cells).unwrap();
    assert_eq!((shown(&next, Kind::Tag, n, key).as_str(), next.rules.len()), (wanted, rules));
}

#[test]
fn a_place_cannot_go_under_itself() {
    let told = written(Kind::Place, 1, &[("parent", "Works/EX-1")]).unwrap_err();
    assert_eq!((told[0].column.as_str(), told[0].message.as_str()), ("parent", "A place cannot lie under itself."));
}

#[test]
fn what_somebody_else_wrote_meanwhile_is_told_with_both() {
    let plant = plant();
    let seen = |text: &str, was: &str| Row {
        id: id(10),
        fresh: false,
        cells: vec![Written { column: "unit".into(), text: text.into(), was: Some(was.into()) }],
    };
    let told = plan(&plant, Kind::Tag, &[seen("m", "mm")], &mut ids()).unwrap_err();
    assert_eq!((told[0].column.as_str(), told[0].now.as_deref()), ("unit", Some("%")));
    assert!(plan(&plant, Kind::Tag, &[seen("m", "%")], &mut ids()).is_ok());
    // Both wrote the same: nothing to choose.
    assert_eq!(plan(&plant, Kind::Tag, &[seen("%", "mm")], &mut ids()).unwrap(), []);
    let twice = [row(10, &[("unit", "m")]), row(10, &[("unit", "l")])];
    assert_eq!(plan(&plant, Kind::Tag, &twice, &mut ids()).unwrap_err()[0].message, "This item appears twice.");
}

#[test]
fn a_new_row_becomes_a_new_item() {
    let plant = plant();
    let cells = [("place", "Works/EX-2"), ("name", "pH"), ("unit", ""), ("decimals", "2"), ("record", "yes")];
    let fresh = Row { fresh: true, ..row(50, &cells) };
    let edits = plan(&plant, Kind::Tag, &[fresh], &mut ids()).unwrap();
    let (next, _) = apply(&plant, &[edits[0].edit.clone()], &(), || 9).unwrap();
    assert_eq!(
        (shown(&next, Kind::Tag, 50, "place"), shown(&next, Kind::Tag, 50, "decimals")),
        ("Works/EX-2".into(), "2".into())
    );
    assert!(!next.tags[&id(50)].own.contains_key("unit"));
}

proptest! {
    /// Writing into every cell what it already shows changes nothing.
    #[test]
    fn what_is_read_and_written_again_is_no_edit(n in prop::sample::select(vec![10u128, 11, 12])) {
        let plant = plant();
        let all: Vec<Written> = columns(Kind::Tag).iter().zip(cells(&plant, Kind::Tag, id(n)))
            .map(|(c, text)| Written { column: c.key.into(), was: Some(text.clone()), text }).collect();
        prop_assert_eq!(plan(&plant, Kind::Tag, &[Row { id: id(n), fresh: false, cells: all }], &mut ids()).unwrap(), vec![]);
    }

    /// Whatever is typed, wherever: it is taken or refused in words, and what was taken shows as a text that is taken again and
    /// then changes nothing.
    #[test]
    fn anything_typed_is_taken_or_refused(key in 0usize..31, text in "[ -~äµ°]{0,12}|-?[0-9]{1,4}[.,][0-9]{1,3}|yes|no|root|u16") {
        let column = &columns(Kind::Tag)[key];
        if let Ok(next) = written(Kind::Tag, 10, &[(column.key, &text)]) {
            let shown = shown(&next, Kind::Tag, 10, column.key);
            let again = plan(&next, Kind::Tag, &[row(10, &[(column.key, &shown)])], &mut ids());
            prop_assert_eq!(again.unwrap(), vec![]);
        }
    }

    #[test]
    fn a_number_reads_back_as_itself(n in prop::num::f64::NORMAL | prop::num::f64::ZERO) {
        prop_assert_eq!(number(&number_text(&n.into())).unwrap(), n);
    }
}
