//! The one door, tried with good, bad and awkward edits.

use super::*;
use crate::plant::{
    Stored,
    undo::{go_back, net, undo},
};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::json;

struct AnySource;

impl SourceCheck for AnySource {
    fn connection(&self, _: &Connection) -> Vec<(String, String)> {
        Vec::new()
    }
    fn point(&self, _: &Connection, tag: &Tag) -> Vec<(String, String)> {
        if tag.point.contains_key("bad") { vec![("point.address".into(), "no".into())] } else { Vec::new() }
    }
}

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

fn own(value: Json) -> Own {
    value.as_object().unwrap().clone()
}

fn create(kind: Kind, n: u128, value: Json) -> Edit {
    Edit { kind, id: id(n), op: Op::Create(own(value), None), seen: None }
}

fn patch(kind: Kind, n: u128, value: Json) -> Edit {
    Edit { kind, id: id(n), op: Op::Patch(own(value)), seen: None }
}

fn delete(kind: Kind, n: u128, contents: bool) -> Edit {
    Edit { kind, id: id(n), op: Op::Delete { contents }, seen: None }
}

fn try_on(plant: &Plant, edits: &[Edit]) -> Result<(Plant, Vec<Change>), Vec<Problem>> {
    let mut no = 100 * plant.revision as u32;
    apply(plant, edits, &AnySource, || {
        no += 1;
        no
    })
}

/// Site 1 with units 2 and 3; tags 10 and 11 in 2, a rule 20 on 10, a report 30 that shows 11.
fn small() -> Plant {
    let edits = [
        create(Kind::Place, 1, json!({"name": "Brackmere", "level": "site"})),
        create(Kind::Place, 2, json!({"name": "EX-1", "parent": id(1)})),
        create(Kind::Place, 3, json!({"name": "EX-2", "parent": id(1)})),
        create(Kind::Connection, 5, json!({"name": "Extraction", "kind": "modbus"})),
        create(Kind::Tag, 10, json!({"name": "Level", "place": id(2), "connection": id(5)})),
        create(Kind::Tag, 11, json!({"name": "Temperature", "place": id(2)})),
        create(Kind::Rule, 20, json!({"tag": id(10), "kind": "high", "level": 80.0})),
        create(Kind::Report, 30, json!({"name": "Shift", "sections": [{"kind": "summary", "tags": [id(11)]}]})),
    ];
    try_on(&Plant::default(), &edits).unwrap().0
}

#[rstest]
#[case::names_change_places(&[patch(Kind::Place, 2, json!({"name": "EX-2"})), patch(Kind::Place, 3, json!({"name": "EX-1"}))], None)]
#[case::what_goes_leaves_its_name(&[delete(Kind::Place, 3, false), create(Kind::Place, 4, json!({"name": "EX-2", "parent": id(1)}))], None)]
#[case::the_same_name_elsewhere(&[create(Kind::Place, 4, json!({"name": "EX-2", "parent": id(3)}))], None)]
#[case::two_new_ones(&[create(Kind::Place, 4, json!({"name": "EX-9"})), create(Kind::Place, 5, json!({"name": "EX-9"}))], Some(1))]
#[case::moved_beside_its_like(&[create(Kind::Tag, 12, json!({"name": "Level", "place": id(3)})), patch(Kind::Tag, 10, json!({"place": id(3)}))], Some(1))]
fn a_name_stands_once_among_siblings(#[case] edits: &[Edit], #[case] wrong: Option<usize>) {
    let told = try_on(&small(), edits).err().map(|problems| {
        assert!(problems.iter().all(|p| p.field == "name"), "{problems:?}");
        problems[0].edit
    });
    assert_eq!(told, wrong);
}

#[rstest]
#[case::limit_on_text(&[create(Kind::Tag, 12, json!({"name": "Batch", "place": id(2), "connection": id(5), "point": {"type": "text"}})),
    create(Kind::Rule, 21, json!({"tag": id(12), "kind": "low", "level": 1}))], "level", "“Batch” holds text, and a limit needs numbers.")]
#[case::text_under_a_limit(&[patch(Kind::Tag, 10, json!({"point": {"type": "text"}}))], "point.type",
    "This tag has limits (high), and a limit needs numbers. Remove them first.")]
#[case::a_limit_with_more_digits(&[patch(Kind::Rule, 20, json!({"level": 9_007_199_254_740_993u64}))], "level",
    "9007199254740993 has more digits than a setting keeps; the nearest number that it keeps is 9007199254740992.")]
#[case::the_same_as_text(&[patch(Kind::Rule, 20, json!({"level": "9007199254740993"}))], "level",
    "9007199254740993 has more digits than a setting keeps.")]
#[case::deep_inside(&[patch(Kind::Tag, 10, json!({"scaling": {"raw_low": 0, "raw_high": -9_007_199_254_740_993i64, "low": 0, "high": 1}}))],
    "scaling.raw_high", "-9007199254740993 has more digits than a setting keeps; the nearest number that it keeps is -9007199254740992.")]
fn what_a_limit_cannot_be_is_refused(#[case] edits: &[Edit], #[case] field: &str, #[case] words: &str) {
    let told = try_on(&small(), edits).unwrap_err();
    assert!(told.iter().any(|p| (p.field.as_str(), p.message.as_str()) == (field, words)), "{told:?}");
}

#[rstest]
#[case::counter(json!({"point": {"type": "u32"}}), 0)]
#[case::measured(json!({"point": {"type": "f32"}}), 1)]
#[case::scaled(json!({"point": {"type": "u16"}, "scaling": {"raw_low": 0, "raw_high": 1000, "low": 0, "high": 100}}), 1)]
#[case::as_said(json!({"point": {"type": "u16"}, "decimals": 2}), 2)]
#[case::put_back(json!({"point": {"type": "u16"}, "decimals": null}), 0)]
fn whole_numbers_have_no_decimals_unless_said(#[case] set: Json, #[case] decimals: u8) {
    let (plant, _) = try_on(&small(), &[patch(Kind::Tag, 11, set)]).unwrap();
    assert_eq!(plant.tags[&id(11)].set.decimals, decimals);
}

#[test]
fn a_limit_that_goes_with_its_reason_leaves_the_tag_to_text() {
    let edits = [delete(Kind::Rule, 20, false), patch(Kind::Tag, 10, json!({"point": {"type": "text"}}))];
    assert!(try_on(&small(), &edits).is_ok());
    // What keeps all its digits in settings may have them: a power of two, the first value of a counter.
    let exact =
        [patch(Kind::Rule, 20, json!({"level": 1u64 << 60})), patch(Kind::Tag, 11, json!({"point": {"initial": u64::MAX}}))];
    assert!(try_on(&small(), &exact).is_ok());
}

#[test]
fn what_was_stored_with_more_digits_before_still_loads() {
    let set = own(json!({"tag": id(10), "kind": "high", "level": 9_007_199_254_740_993u64}));
    let (plant, broken) = Plant::from_stored(1, vec![Stored { kind: Kind::Rule, id: id(20), no: 0, revision: 1, own: set }]);
    assert!(broken.is_empty() && plant.rules.contains_key(&id(20)), "{broken:?}");
}

#[test]
fn many_edits_tell_how_far_they_are_and_can_be_stopped() {
    let edits: Vec<Edit> =
        (100..1700).map(|n| create(Kind::Place, n, json!({"name": format!("P-{n}"), "parent": id(1)}))).collect();
    let mut heard = Vec::new();
    let done = apply_watched(&small(), &edits, &AnySource, || 0, &mut |share| {
        heard.push(share);
        true
    });
    assert_eq!(done.unwrap().1.len(), 1600);
    assert!(heard.len() > 6 && heard.is_sorted() && heard.iter().all(|share| (0.0..1.0).contains(share)), "{heard:?}");
    let stopped = apply_watched(&small(), &edits, &AnySource, || 0, &mut |share| share < 0.6);
    assert_eq!(stopped.unwrap_err(), []);
}

#[rstest]
#[case::no_name(create(Kind::Place, 9, json!({"name": " "})), "name")]
#[case::slash(create(Kind::Place, 9, json!({"name": "a/b"})), "name")]
#[case::taken(create(Kind::Place, 9, json!({"name": "EX-2", "parent": id(1)})), "name")]
#[case::taken_tag(create(Kind::Tag, 9, json!({"name": "Level", "place": id(2)})), "name")]
#[case::no_such_place(create(Kind::Tag, 9, json!({"name": "x", "place": id(77)})), "place")]
#[case::under_itself(patch(Kind::Place, 1, json!({"parent": id(2)})), "parent")]
#[case::wrong_type(patch(Kind::Rule, 20, json!({"level": "much"})), "level")]
#[case::unknown_field(patch(Kind::Tag, 10, json!({"colour": "red"})), "colour")]
#[case::range(patch(Kind::Tag, 10, json!({"range_low": 5.0, "range_high": 5.0})), "range_high")]
#[case::priority(patch(Kind::Rule, 20, json!({"priority": 5})), "priority")]
#[case::address(patch(Kind::Tag, 10, json!({"point": {"bad": 1}})), "point.address")]
#[case::limit_twice(create(Kind::Rule, 9, json!({"tag": id(10), "kind": "high", "level": 90.0})), "name")]
#[case::plain_name(create(Kind::Rule, 9, json!({"tag": id(10), "kind": "low", "name": "High", "level": 90.0})), "name")]
#[case::path_as_name(create(Kind::Rule, 9, json!({"tag": id(10), "kind": "low", "name": "a/b", "level": 90.0})), "name")]
#[case::zone(patch(Kind::Report, 30, json!({"zone": "Moon/Base"})), "zone")]
#[case::scaling(patch(Kind::Tag, 10, json!({"scaling": {"raw_low": 1.0, "raw_high": 1.0, "low": 0.0, "high": 1.0}})), "scaling.raw_high")]
#[case::states_of_a_member(create(Kind::Layout, 9, json!({"name": "Vessel", "members": [{"id": id(8), "name": "Phase", "offset": 0, "states": id(77)}]})), "members[0].states")]
#[case::range_of_a_member(create(Kind::Layout, 9, json!({"name": "Vessel", "members": [{"id": id(8), "name": "Level", "offset": 0, "range_low": 9.0, "range_high": 1.0}]})), "members[0].range_high")]
#[case::interval(patch(Kind::Connection, 5, json!({"interval_ms": 5})), "interval_ms")]
fn wrong_fields_are_named(#[case] edit: Edit, #[case] field: &str) {
    let problems = try_on(&small(), &[edit]).unwrap_err();
    assert_eq!(problems.iter().map(|p| p.field.as_str()).collect::<Vec<_>>(), [field], "{problems:?}");
}

#[test]
fn one_bad_edit_stops_all_and_says_which() {
    let plant = small();
    let edits = [patch(Kind::Place, 2, json!({"name": "EX-9"})), patch(Kind::Place, 3, json!({"name": ""}))];
    let problems = try_on(&plant, &edits).unwrap_err();
    assert_eq!((problems.len(), problems[0].edit), (1, 1));
    assert_eq!(plant.places[&id(2)].set.name, "EX-1");
}

#[test]
fn deleting_needs_an_empty_place_or_takes_all_in_it() {
    let plant = small();
    let problems = try_on(&plant, &[delete(Kind::Place, 3, false), delete(Kind::Place, 2, false)]).unwrap_err();
    assert_eq!(problems.len(), 1);
    assert_eq!(problems[0].kind, ProblemKind::InUse);
    let problems = try_on(&plant, &[delete(Kind::Place, 2, true)]).unwrap_err();
    assert!(problems[0].message.contains("report “Shift” uses"), "{}", problems[0].message);
    let (next, changes) = try_on(&plant, &[delete(Kind::Report, 30, false), delete(Kind::Place, 2, true)]).unwrap();
    assert_eq!(changes.len(), 5);
    assert!(next.tags.is_empty() && next.rules.is_empty());
}

#[test]
fn what_an_address_names_is_not_deleted_under_it() {
    let plant = small();
    let figure = json!({"figure": "running", "connection": id(5)});
    let edits = [
        create(Kind::Connection, 6, json!({"name": "Havrel itself", "kind": "figures"})),
        create(Kind::Tag, 12, json!({"name": "Extraction runs", "place": id(2), "connection": id(6), "point": figure})),
    ];
    let (plant, _) = try_on(&plant, &edits).unwrap();
    let problems = try_on(&plant, &[delete(Kind::Connection, 5, true)]).unwrap_err();
    let told: Vec<_> = problems.iter().map(|p| (p.kind, p.message.as_str())).collect();
    let words = "“Extraction” cannot be deleted: the address of “Brackmere/EX-1/Extraction runs” names it.";
    assert_eq!(told, [(ProblemKind::InUse, words)]);
    // An identity that names no item of the plant is the driver's business.
    let other = json!({"figure": "running", "connection": id(5), "device": id(77)});
    assert!(try_on(&plant, &[patch(Kind::Tag, 12, json!({"point": other}))]).is_ok());
    assert!(try_on(&plant, &[delete(Kind::Tag, 12, true), delete(Kind::Connection, 5, true)]).is_ok());
}

#[test]
fn the_kind_of_a_connection_stays_as_it_was_created() {
    let plant = small();
    let problems = try_on(&plant, &[patch(Kind::Connection, 5, json!({"kind": "memory"}))]).unwrap_err();
    assert_eq!((problems[0].kind, problems[0].field.as_str()), (ProblemKind::Invalid, "kind"));
    assert!(problems[0].message.starts_with("The kind of a connection stays as it was created."));
    // A form sends all its fields, also those that stay.
    assert!(try_on(&plant, &[patch(Kind::Connection, 5, json!({"kind": "modbus", "interval_ms": 500}))]).is_ok());
    assert!(try_on(&plant, &[patch(Kind::Connection, 5, json!({"kind": null}))]).is_err());
}

#[rstest]
#[case(Kind::Place, json!({"name": "N", "parent": id(99)}), "parent", "The place it names does not exist.")]
#[case(Kind::Layout, json!({"name": "N", "members": [{"id": id(70), "name": "a", "offset": 0, "states": id(99)}]}), "members[0].states", "The set of state names it names does not exist.")]
#[case(Kind::Tag, json!({"name": "N", "place": id(2), "connection": id(99)}), "connection", "The connection it names does not exist.")]
#[case(Kind::Tag, json!({"name": "N", "place": id(2), "setpoint": id(99)}), "setpoint", "The tag it names does not exist.")]
#[case(Kind::Tag, json!({"name": "N", "place": id(2), "states": id(99)}), "states", "The set of state names it names does not exist.")]
#[case(Kind::Rule, json!({"tag": id(99), "kind": "low", "level": 1.0}), "tag", "The tag it names does not exist.")]
#[case(Kind::Report, json!({"name": "N", "place": id(99)}), "place", "The place it names does not exist.")]
#[case(Kind::Report, json!({"name": "N", "sections": [{"kind": "trend", "tags": [id(10), id(98), id(99)]}]}), "sections[0].tags", "The tag it names does not exist.")]
fn what_an_item_names_must_exist(#[case] kind: Kind, #[case] own: Json, #[case] field: &str, #[case] message: &str) {
    let problems = try_on(&small(), &[create(kind, 60, own)]).unwrap_err();
    assert_eq!(problems.iter().map(|p| (p.field.as_str(), p.message.as_str())).collect::<Vec<_>>(), [(field, message)]);
}

#[test]
fn a_ring_bent_and_deleted_in_one_go_comes_to_an_end() {
    let edits = [patch(Kind::Place, 1, json!({"parent": id(2)})), delete(Kind::Place, 1, true), delete(Kind::Report, 30, false)];
    let (next, _) = try_on(&small(), &edits).unwrap();
    assert!(next.places.is_empty() && next.tags.is_empty());
}

#[test]
fn state_names_that_a_layout_uses_stay() {
    let states = create(Kind::States, 40, json!({"name": "Phases", "states": [{"value": 0, "name": "Idle"}]}));
    let members = json!([{"id": id(8), "name": "Phase", "offset": 0, "states": id(40)}]);
    let layout = create(Kind::Layout, 41, json!({"name": "Vessel", "members": members}));
    let (plant, _) = try_on(&small(), &[states, layout]).unwrap();
    let problems = try_on(&plant, &[delete(Kind::States, 40, false)]).unwrap_err();
    assert_eq!(problems[0].kind, ProblemKind::InUse);
    assert!(problems[0].message.contains("it names states in the layout “Vessel”"), "{problems:?}");
    assert!(try_on(&plant, &[delete(Kind::Layout, 41, false), delete(Kind::States, 40, false)]).is_ok());
}

#[test]
fn an_item_changed_meanwhile_is_not_overwritten() {
    let plant = small();
    let seen = plant.revision;
    let (plant, _) = try_on(&plant, &[patch(Kind::Tag, 10, json!({"unit": "%"}))]).unwrap();
    let late = Edit { seen: Some(seen), ..patch(Kind::Tag, 10, json!({"unit": "m"})) };
    assert_eq!(try_on(&plant, &[late]).unwrap_err()[0].kind, ProblemKind::Stale);
    let other = Edit { seen: Some(seen), ..patch(Kind::Tag, 11, json!({"unit": "°C"})) };
    assert!(try_on(&plant, &[other]).is_ok(), "another item is free");
}

#[test]
fn a_change_holds_only_what_changed() {
    let (_, changes) = try_on(&small(), &[patch(Kind::Rule, 20, json!({"level": 82.0, "priority": null}))]).unwrap();
    assert_eq!(changes[0].before, Some(own(json!({"level": 80.0}))));
    assert_eq!(changes[0].after, Some(own(json!({"level": 82.0}))));
}

#[test]
fn a_tag_that_comes_back_keeps_its_number() {
    let plant = small();
    let no = plant.tags[&id(10)].no;
    let (without, changes) = try_on(&plant, &[delete(Kind::Tag, 10, true)]).unwrap();
    let (back, _) = try_on(&without, &inverse(&changes)).unwrap();
    assert_eq!(back.tags[&id(10)].no, no);
    assert!(back.rules.contains_key(&id(20)));
}

#[test]
fn undo_of_what_something_now_hangs_on_is_refused_in_words() {
    let plant = small();
    let (made, changes) = try_on(&plant, &[create(Kind::Place, 4, json!({"name": "EX-3"}))]).unwrap();
    let (used, _) = try_on(&made, &[create(Kind::Tag, 12, json!({"name": "pH", "place": id(4)}))]).unwrap();
    let problems = try_on(&used, &inverse(&changes)).unwrap_err();
    assert!(problems[0].message.contains("1 more use it"));
}

#[test]
fn what_already_holds_by_default_does_not_become_own() {
    let set = json!({"name": "EX-9", "note": "", "level": "unit", "order": 0.0});
    let (_, changes) = try_on(&small(), &[patch(Kind::Place, 3, set)]).unwrap();
    assert_eq!(changes[0].after, Some(own(json!({"name": "EX-9"}))));
}

fn overrule(fields: &[(u128, &str)]) -> HashSet<(Uuid, String)> {
    fields.iter().map(|(n, field)| (id(*n), (*field).to_owned())).collect()
}

/// A revision that renames tag 10 and sets its unit, and a later one that renames it once more.
fn renamed_twice() -> (Plant, Vec<Change>) {
    let (first, changes) = try_on(&small(), &[patch(Kind::Tag, 10, json!({"name": "Fill", "unit": "%"}))]).unwrap();
    (try_on(&first, &[patch(Kind::Tag, 10, json!({"name": "Fill level"}))]).unwrap().0, changes)
}

#[test]
fn an_earlier_revision_goes_back_where_nothing_later_touches_it() {
    let (now, changes) = renamed_twice();
    let plan = undo(&now, &changes, &overrule(&[]));
    let conflict = &plan.conflicts[0];
    assert_eq!((plan.conflicts.len(), conflict.field.as_str(), conflict.can), (1, "name", true));
    assert_eq!((&conflict.written, &conflict.now, &conflict.back), (&json!("Fill"), &json!("Fill level"), &json!("Level")));
    let tag = |plant: &Plant| plant.tags[&id(10)].set.clone();
    let kept = try_on(&now, &plan.edits).unwrap().0;
    assert_eq!((tag(&kept).name.as_str(), tag(&kept).unit.as_str()), ("Fill level", ""));
    let plan = undo(&now, &changes, &overrule(&[(10, "name")]));
    let back = try_on(&now, &plan.edits).unwrap().0;
    assert_eq!((tag(&back).name.as_str(), tag(&back).unit.as_str()), ("Level", ""));
}

#[test]
fn what_a_revision_made_and_somebody_changed_goes_only_when_told() {
    let (made, changes) = try_on(&small(), &[create(Kind::Place, 4, json!({"name": "EX-3"}))]).unwrap();
    assert!(undo(&made, &changes, &overrule(&[])).conflicts.is_empty());
    let (now, _) = try_on(&made, &[patch(Kind::Place, 4, json!({"note": "new"}))]).unwrap();
    let plan = undo(&now, &changes, &overrule(&[]));
    assert_eq!((plan.edits.len(), plan.conflicts[0].title.as_str(), plan.conflicts[0].field.as_str()), (0, "EX-3", ""));
    let plan = undo(&now, &changes, &overrule(&[(4, "")]));
    assert!(!try_on(&now, &plan.edits).unwrap().0.places.contains_key(&id(4)));
}

#[test]
fn what_a_revision_changed_and_somebody_deleted_cannot_go_back() {
    let (renamed, changes) = try_on(&small(), &[patch(Kind::Place, 3, json!({"name": "EX-9"}))]).unwrap();
    let (now, _) = try_on(&renamed, &[delete(Kind::Place, 3, false)]).unwrap();
    let plan = undo(&now, &changes, &overrule(&[(3, "")]));
    assert_eq!((plan.edits.len(), plan.conflicts[0].can, plan.conflicts[0].title.as_str()), (0, false, "EX-9"));
}

#[test]
fn an_undo_does_not_overwrite_what_changes_while_it_is_decided() {
    let (now, changes) = renamed_twice();
    let plan = undo(&now, &changes, &overrule(&[(10, "name")]));
    let (later, _) = try_on(&now, &[patch(Kind::Tag, 10, json!({"note": "seen by nobody"}))]).unwrap();
    assert_eq!(try_on(&later, &plan.edits).unwrap_err()[0].kind, ProblemKind::Stale);
}

#[test]
fn what_was_made_and_deleted_in_between_does_not_count() {
    let first = try_on(&small(), &[create(Kind::Place, 4, json!({"name": "EX-3"}))]).unwrap();
    let second = try_on(&first.0, &[delete(Kind::Place, 4, false), patch(Kind::Place, 3, json!({"note": "a"}))]).unwrap();
    let third = try_on(&second.0, &[patch(Kind::Place, 3, json!({"note": null}))]).unwrap();
    let all: Vec<Change> = [first.1, second.1, third.1].concat();
    assert_eq!(net(&all), []);
}

fn any_edit() -> impl Strategy<Value = Edit> {
    let name = prop::sample::select(vec!["a", "b", "c", "", "x/y"]);
    let n = 1u128..8;
    prop_oneof![
        (n.clone(), name.clone(), prop::option::of(1u128..8)).prop_map(|(n, name, p)| create(
            Kind::Place,
            n,
            json!({"name": name, "parent": p.map(id)})
        )),
        (n.clone(), name.clone(), 1u128..8).prop_map(|(n, name, p)| create(
            Kind::Tag,
            n + 50,
            json!({"name": name, "place": id(p)})
        )),
        (n.clone(), prop::option::of(1u128..8)).prop_map(|(n, p)| patch(Kind::Place, n, json!({"parent": p.map(id)}))),
        (n.clone(), any::<bool>()).prop_map(|(n, all)| delete(Kind::Place, n, all)),
        (n, 0.0..9.0f64).prop_map(|(n, v)| create(Kind::Rule, n + 90, json!({"tag": id(n + 50), "kind": "low", "level": v}))),
    ]
}

fn same(a: &Plant, b: &Plant) -> bool {
    Kind::ALL.iter().all(|&kind| {
        let ids = |p: &Plant| -> HashSet<Uuid> {
            let all =
                p.places.keys().chain(p.connections.keys()).chain(p.tags.keys()).chain(p.rules.keys()).chain(p.reports.keys());
            all.copied().filter(|&id| p.own(kind, id).is_some()).collect()
        };
        ids(a) == ids(b) && ids(a).iter().all(|&id| a.own(kind, id).map(|o| o.0) == b.own(kind, id).map(|o| o.0))
    })
}

proptest! {
    /// Whatever is tried: the tree stays a tree, everything referred to exists, absorbing the changes elsewhere gives
    /// the same plant, and their inverse leads back.
    #[test]
    fn the_plant_stays_whole(batches in prop::collection::vec(prop::collection::vec(any_edit(), 1..5), 1..12)) {
        let mut plant = Plant::default();
        // Every revision, with all changes since.
        let mut before: Vec<(Plant, Vec<Change>)> = Vec::new();
        for edits in batches {
            let Ok((next, changes)) = try_on(&plant, &edits) else { continue };
            for place in next.places.values() {
                prop_assert!(place.set.parent.is_none_or(|p| next.places.contains_key(&p) && !next.lies_under(p, place.id)));
            }
            prop_assert!(next.tags.values().all(|t| next.places.contains_key(&t.set.place)));
            prop_assert!(next.rules.values().all(|r| next.tags.contains_key(&r.set.tag)));
            let absorbed = plant.absorb(next.revision, &changes).unwrap();
            prop_assert!(same(&absorbed, &next));
            let (back, _) = try_on(&next, &inverse(&changes)).unwrap();
            prop_assert!(same(&back, &plant));
            before.push((plant, Vec::new()));
            before.iter_mut().for_each(|(_, since)| since.extend(changes.iter().cloned()));
            plant = next;
        }
        for (earlier, since) in before {
            let edits = go_back(&since);
            if edits.is_empty() {
                prop_assert!(same(&earlier, &plant));
                continue;
            }
            let (back, _) = try_on(&plant, &edits).unwrap();
            prop_assert!(same(&back, &earlier));
        }
    }
}

#[test]
fn a_number_written_otherwise_changes_nothing() {
    let made = |order: Json| json!({"name": "EX-1", "order": order});
    let (plant, _) = try_on(&Plant::default(), &[create(Kind::Place, 1, made(json!(1.0)))]).unwrap();
    for (order, changes) in [(json!(1), 0), (json!(2), 1)] {
        assert_eq!(try_on(&plant, &[patch(Kind::Place, 1, made(order))]).unwrap().1.len(), changes);
    }
}

#[test]
fn a_field_is_said_to_be_empty_put_back_and_undone_like_any_other() {
    let plant = small();
    let empty = super::super::layers::empty();
    let said = try_on(&plant, &[patch(Kind::Tag, 10, json!({"note": "as built"}))]).unwrap().0;
    let (emptied, changes) = try_on(&said, &[patch(Kind::Tag, 10, json!({"note": empty}))]).unwrap();
    assert_eq!((emptied.tags[&id(10)].set.note.as_str(), emptied.tags[&id(10)].own.get("note")), ("", Some(&empty)));
    let back = try_on(&emptied, &inverse(&changes)).unwrap().0;
    assert_eq!(back.tags[&id(10)].set.note, "as built");
    let put_back = try_on(&emptied, &[patch(Kind::Tag, 10, json!({"note": null}))]).unwrap().0;
    assert_eq!(put_back.tags[&id(10)].own.get("note"), None);
    // What cannot be empty is missing then.
    let problems = try_on(&plant, &[patch(Kind::Tag, 10, json!({"name": empty}))]).unwrap_err();
    assert_eq!(problems[0].field, "");
}
