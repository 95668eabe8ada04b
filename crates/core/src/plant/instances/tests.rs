//! Classes and their instances: what is made, what is inherited, what is kept, and what is refused.

use super::*;
use crate::plant::{
    Change, Edit, Op, Problem, Stored,
    edit::{apply, inverse},
    layers,
};
use rstest::rstest;
use serde_json::json;

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

fn own(value: Json) -> Own {
    value.as_object().unwrap().clone()
}

fn create(kind: Kind, n: u128, value: Json) -> Edit {
    Edit { kind, id: id(n), op: Op::Create(own(value), None), seen: None }
}

fn patch(kind: Kind, item: Uuid, value: Json) -> Edit {
    Edit { kind, id: item, op: Op::Patch(own(value)), seen: None }
}

fn delete(kind: Kind, item: Uuid) -> Edit {
    Edit { kind, id: item, op: Op::Delete { contents: true }, seen: None }
}

fn try_on(plant: &Plant, edits: &[Edit]) -> Result<(Plant, Vec<Change>), Vec<Problem>> {
    let mut no = 100 * plant.revision as u32;
    apply(plant, edits, &(), || {
        no += 1;
        no
    })
}

fn done(plant: &Plant, edits: &[Edit]) -> Plant {
    try_on(plant, edits).unwrap().0
}

// Parameters, properties, parts and rules of the classes below.
const BASE: u128 = 101;
const CONTROLLER: u128 = 102;
const LEVEL: u128 = 111;
const SETPOINT: u128 = 112;
const SHARE: u128 = 113;
const HIGH: u128 = 121;
const PUMP: u128 = 131;
const RUNS: u128 = 141;
const PUMP_BASE: u128 = 142;

/// A pump that runs or not, with one register.
fn pump() -> Json {
    json!({
        "name": "Pump",
        "parameters": {(id(PUMP_BASE).to_string()): {"name": "Base", "kind": "number"},
            (id(143).to_string()): {"name": "Controller", "kind": "connection"}},
        "properties": {(id(RUNS).to_string()): {
            "tag": {"name": "Runs", "connection": "[[Controller]]", "point": {"offset": "[[Base]]"}}}},
    })
}

/// A vessel with level, setpoint and a computed share, a limit, and two pumps.
fn vessel() -> Json {
    json!({
        "name": "Vessel", "level": "equipment",
        "parameters": {
            (id(BASE).to_string()): {"name": "Base", "kind": "number"},
            (id(CONTROLLER).to_string()): {"name": "Controller", "kind": "connection"},
        },
        "properties": {
            (id(LEVEL).to_string()): {"main": true,
                "tag": {"name": "Level", "unit": "m", "range_low": 0.0, "range_high": 4.0, "connection": "[[Controller]]",
                    "point": {"offset": "[[Base + 2]]"}, "setpoint": id(SETPOINT), "order": 1.0, "record": true},
                "rules": {(id(HIGH).to_string()): {"kind": "high", "level": 3.5, "priority": 3, "cause": "[[Name]] overfills"}}},
            (id(SETPOINT).to_string()): {"kind": "setting",
                "tag": {"name": "Level setpoint", "unit": "m", "connection": "[[Controller]]", "point": {"offset": "[[Base + 3]]"}, "order": 2.0}},
            (id(SHARE).to_string()): {"kind": "computed",
                "tag": {"name": "Share", "unit": "m", "formula": {"text": "own(\"Level\") * 2"}, "order": 3.0}},
        },
        "parts": {(id(PUMP).to_string()): {"name": "Pump [[Number]]", "class": id(2), "count": 2,
            "parameters": {(id(PUMP_BASE).to_string()): "[[Base + 10 * Number]]"}, "order": 1.0}},
    })
}

/// Classes 1 (vessel) and 2 (pump), a connection 5, and two vessels 11 and 12 below 10.
fn plant() -> Plant {
    let place = |name: &str, base: i64| {
        json!({"name": name, "parent": id(10), "class": id(1),
            "parameters": {(id(BASE).to_string()): base, (id(CONTROLLER).to_string()): id(5)}})
    };
    let edits = [
        create(Kind::Connection, 5, json!({"name": "Extraction", "kind": "modbus"})),
        create(Kind::Class, 2, pump()),
        create(Kind::Class, 1, vessel()),
        create(Kind::Place, 10, json!({"name": "Extraction"})),
        create(Kind::Place, 11, place("EX-1", 100)),
        create(Kind::Place, 12, place("EX-2", 140)),
    ];
    done(&Plant::default(), &edits)
}

fn tag<'a>(plant: &'a Plant, path: &str) -> &'a super::super::Item<Tag> {
    plant.tags.values().find(|tag| plant.tag_path(&tag.set) == path).unwrap_or_else(|| panic!("no tag {path}"))
}

fn paths(plant: &Plant) -> Vec<String> {
    let mut all: Vec<String> = plant.tags.values().map(|tag| plant.tag_path(&tag.set)).collect();
    all.sort();
    all
}

#[test]
fn an_instance_has_what_its_class_says() {
    let plant = plant();
    let of = |name: &str| {
        ["Level", "Level setpoint", "Pump 1/Runs", "Pump 2/Runs", "Share"].map(|tag| format!("Extraction/{name}/{tag}"))
    };
    assert_eq!(paths(&plant), [of("EX-1"), of("EX-2")].concat());
    let level = tag(&plant, "Extraction/EX-2/Level");
    assert_eq!((level.set.unit.as_str(), level.set.range_high, level.set.record), ("m", Some(4.0), true));
    assert_eq!((level.set.connection, level.set.point.get("offset")), (Some(id(5)), Some(&json!(142))));
    assert_eq!(level.set.setpoint, Some(tag(&plant, "Extraction/EX-2/Level setpoint").id));
    assert!(tag(&plant, "Extraction/EX-2/Level setpoint").set.writable && !level.set.writable);
    // A formula reads the tag of its own equipment.
    let share = tag(&plant, "Extraction/EX-2/Share").set.formula.clone().unwrap();
    assert_eq!(share.references().collect::<Vec<_>>(), [level.id]);
    // Parts count, and pass on what they are not told.
    let runs = tag(&plant, "Extraction/EX-2/Pump 2/Runs");
    assert_eq!((runs.set.connection, runs.set.point.get("offset")), (Some(id(5)), Some(&json!(160))));
    let rule = plant.rules.values().find(|rule| rule.set.tag == level.id).unwrap();
    assert_eq!((rule.set.level, rule.set.priority, rule.set.cause.as_str()), (Some(3.5), 3, "EX-2 overfills"));
    assert_eq!(plant.places[&id(11)].set.level, crate::plant::Level::Equipment);
    // An item says only what it stands for.
    assert_eq!(level.own, own(json!({"place": id(12), "property": id(LEVEL)})));
    let numbers: HashSet<u32> = plant.tags.values().map(|tag| tag.no).collect();
    assert_eq!(numbers.len(), plant.tags.len());
}

#[test]
fn a_class_changes_all_its_instances_but_for_what_they_say_themselves() {
    let plant = plant();
    let (one, two) = (tag(&plant, "Extraction/EX-1/Level").id, tag(&plant, "Extraction/EX-2/Level").id);
    let plant = done(&plant, &[patch(Kind::Tag, two, json!({"range_high": 5.0}))]);
    let mut class = vessel();
    class["properties"][id(LEVEL).to_string()]["tag"]["range_high"] = json!(6.0);
    class["properties"][id(LEVEL).to_string()]["tag"]["unit"] = json!("cm");
    let edit = patch(Kind::Class, id(1), json!({"properties": class["properties"]}));
    let (next, changes) = try_on(&plant, &[edit]).unwrap();
    // The class alone is written; its instances follow.
    assert_eq!(changes.iter().map(|c| (c.kind, c.id)).collect::<Vec<_>>(), [(Kind::Class, id(1))]);
    let set = |tag: Uuid| (next.tags[&tag].set.range_high, next.tags[&tag].set.unit.as_str());
    assert_eq!((set(one), set(two)), ((Some(6.0), "cm"), (Some(5.0), "cm")));
    assert_eq!((next.tags[&one].revision, next.places[&id(11)].revision), (next.revision, plant.places[&id(11)].revision));
    // Put back.
    let next = done(&next, &[patch(Kind::Tag, two, json!({"range_high": null}))]);
    assert_eq!(next.tags[&two].set.range_high, Some(6.0));
    // Explicitly empty.
    let next = done(&next, &[patch(Kind::Tag, two, json!({"range_high": layers::empty()}))]);
    assert_eq!(next.tags[&two].set.range_high, None);
}

#[test]
fn a_new_property_comes_to_all_and_goes_from_all() {
    let plant = plant();
    let mut class = vessel();
    let temperature =
        json!({"tag": {"name": "Temperature", "unit": "°C"}, "rules": {(id(122).to_string()): {"kind": "high", "level": 80}}});
    class["properties"][id(114).to_string()] = temperature;
    class["properties"].as_object_mut().unwrap().shift_remove(&id(SHARE).to_string());
    class["parts"][id(PUMP).to_string()]["count"] = json!(1);
    let edit = patch(Kind::Class, id(1), json!({"properties": class["properties"], "parts": class["parts"]}));
    let (next, changes) = try_on(&plant, &[edit]).unwrap();
    let of = |name: &str| ["Level", "Level setpoint", "Pump 1/Runs", "Temperature"].map(|tag| format!("Extraction/{name}/{tag}"));
    assert_eq!(paths(&next), [of("EX-1"), of("EX-2")].concat());
    assert_eq!(next.rules.len(), 4);
    // Its inverse gives the tags back as they were, with their numbers.
    let back = done(&next, &inverse(&changes));
    assert_eq!(differences(&back, &plant, true), "");
    let absorbed = plant.absorb(next.revision, &changes).unwrap();
    assert_eq!(differences(&absorbed, &next, true), "");
}

#[test]
fn a_class_that_extends_another_says_only_what_differs() {
    let mut heated = json!({"name": "Heated vessel", "extends": id(1), "properties": {
        (id(LEVEL).to_string()): {"tag": {"range_high": 8.0}},
        (id(SHARE).to_string()): layers::empty(),
        (id(115).to_string()): {"tag": {"name": "Steam valve", "unit": "%"}},
    }});
    let plant = done(&plant(), &[create(Kind::Class, 3, heated.clone()), patch(Kind::Place, id(12), json!({"class": id(3)}))]);
    let of = ["Level", "Level setpoint", "Pump 1/Runs", "Pump 2/Runs", "Steam valve"].map(|tag| format!("Extraction/EX-2/{tag}"));
    assert_eq!(paths(&plant)[5..], of);
    let level = tag(&plant, "Extraction/EX-2/Level");
    assert_eq!((level.set.unit.as_str(), level.set.range_high), ("m", Some(8.0)));
    // The base changes both.
    let mut class = vessel();
    class["properties"][id(LEVEL).to_string()]["tag"]["unit"] = json!("cm");
    class["properties"][id(LEVEL).to_string()]["tag"]["range_high"] = json!(5.0);
    let next = done(&plant, &[patch(Kind::Class, id(1), json!({"properties": class["properties"]}))]);
    let set = |path: &str| (tag(&next, path).set.unit.clone(), tag(&next, path).set.range_high);
    assert_eq!(set("Extraction/EX-1/Level"), ("cm".into(), Some(5.0)));
    assert_eq!(set("Extraction/EX-2/Level"), ("cm".into(), Some(8.0)));
    // The other way round would be a circle.
    heated["name"] = json!("Other");
    let problems = try_on(&next, &[patch(Kind::Class, id(1), json!({"extends": id(3)}))]).unwrap_err();
    assert_eq!(problems[0].field, "extends");
}

#[test]
fn an_instance_leaves_out_what_it_does_not_have() {
    let plant = plant();
    let without = [id(SHARE), id(PUMP)];
    let (next, changes) = try_on(&plant, &[patch(Kind::Place, id(11), json!({"without": without}))]).unwrap();
    assert_eq!(paths(&next)[..2], ["Extraction/EX-1/Level".to_owned(), "Extraction/EX-1/Level setpoint".to_owned()]);
    assert_eq!(next.tags.len(), 7);
    assert_eq!(differences(&done(&next, &inverse(&changes)), &plant, true), "");
    // To delete its tag is not the way.
    let share = tag(&plant, "Extraction/EX-1/Share").id;
    let problems = try_on(&plant, &[delete(Kind::Tag, share)]).unwrap_err();
    assert!(problems[0].message.starts_with("This belongs to the equipment class."), "{problems:?}");
    let part = plant.places.values().find(|p| p.set.name == "Pump 2" && p.set.parent == Some(id(11))).unwrap().id;
    let problems = try_on(&plant, &[delete(Kind::Place, part)]).unwrap_err();
    assert!(problems[0].message.starts_with("This belongs to the equipment class."), "{problems:?}");
    let rule = plant.rules.values().next().unwrap().id;
    let problems = try_on(&plant, &[delete(Kind::Rule, rule)]).unwrap_err();
    assert!(problems[0].message.starts_with("This alarm rule belongs"), "{problems:?}");
    // With its place it goes.
    assert_eq!(done(&plant, &[delete(Kind::Place, id(11))]).tags.len(), 5);
}

#[test]
fn what_an_instance_does_not_say_leaves_its_tags_unbound() {
    let plant = done(&plant(), &[create(Kind::Place, 13, json!({"name": "EX-3", "parent": id(10), "class": id(1)}))]);
    let level = tag(&plant, "Extraction/EX-3/Level");
    assert_eq!((level.set.connection, level.set.point.len(), level.set.unit.as_str()), (None, 0, "m"));
    let runs = tag(&plant, "Extraction/EX-3/Pump 1/Runs");
    assert_eq!((runs.set.connection, runs.set.point.len()), (None, 0));
    let said = json!({"parameters": {(id(BASE).to_string()): 300, (id(CONTROLLER).to_string()): id(5)}});
    let plant = done(&plant, &[patch(Kind::Place, id(13), said)]);
    assert_eq!(tag(&plant, "Extraction/EX-3/Pump 2/Runs").set.point.get("offset"), Some(&json!(320)));
}

#[test]
fn own_settings_stay_own_through_a_file_and_a_copy() {
    let plant = plant();
    let level = tag(&plant, "Extraction/EX-1/Level").id;
    let plant = done(&plant, &[patch(Kind::Tag, level, json!({"point": {"offset": 7}}))]);
    assert_eq!(plant.tags[&level].set.point.get("offset"), Some(&json!(7)));
    let mut next = 5000;
    let new_id = || {
        next += 1;
        id(next)
    };
    let (edits, _) = crate::plant::copy::branches(&plant, &[id(11)], Some(id(10)), new_id).unwrap();
    let copied = done(&plant, &edits);
    let copy = tag(&copied, "Extraction/EX-3/Level");
    assert_eq!((copy.set.point.get("offset"), copy.set.unit.as_str()), (Some(&json!(7)), "m"));
    assert_eq!(copy.set.setpoint, Some(tag(&copied, "Extraction/EX-3/Level setpoint").id));
    let share = tag(&copied, "Extraction/EX-3/Share").set.formula.clone().unwrap();
    assert_eq!(share.references().collect::<Vec<_>>(), [copy.id]);
    assert_eq!(copied.tags.len(), 15);
}

#[test]
fn a_copy_of_a_part_is_equipment_by_itself() {
    let plant = plant();
    let part = plant.places.values().find(|p| p.set.name == "Pump 2" && p.set.parent == Some(id(11))).unwrap().id;
    let mut next = 6000;
    let new_id = || {
        next += 1;
        id(next)
    };
    let (edits, _) = crate::plant::copy::branches(&plant, &[part], Some(id(10)), new_id).unwrap();
    let copied = done(&plant, &edits);
    let runs = tag(&copied, "Extraction/Pump 2/Runs");
    assert_eq!((runs.set.connection, runs.set.point.get("offset")), (Some(id(5)), Some(&json!(120))));
    assert_eq!(copied.places[&runs.set.place].set.part, None);
}

#[rstest]
#[case::unknown_parameter(json!({"properties": {"00000000-0000-0000-0000-00000000006f": {"tag": {"name": "Level", "unit": "[[Unit]]"}}}}), "properties.00000000-0000-0000-0000-00000000006f.tag.unit", "There is no parameter “Unit”.")]
#[case::unknown_field(json!({"properties": {"00000000-0000-0000-0000-00000000006f": {"tag": {"name": "Level", "colour": 1}}}}), "properties.00000000-0000-0000-0000-00000000006f.tag.colour", "There is no field “colour”.")]
#[case::upside_down(json!({"properties": {"00000000-0000-0000-0000-00000000006f": {"tag": {"name": "Level", "range_low": 5, "range_high": 2}}}}), "properties.00000000-0000-0000-0000-00000000006f.tag.range_high", "The upper end must lie above 5.")]
#[case::limit_without_level(json!({"properties": {"00000000-0000-0000-0000-00000000006f": {"tag": {"name": "Level"}, "rules": {"00000000-0000-0000-0000-000000000079": {"kind": "high"}}}}}), "properties.00000000-0000-0000-0000-00000000006f.rules.00000000-0000-0000-0000-000000000079.level", "Enter the level at which the alarm comes.")]
#[case::no_formula(json!({"properties": {"00000000-0000-0000-0000-00000000006f": {"kind": "computed", "tag": {"name": "Level"}}}}), "properties.00000000-0000-0000-0000-00000000006f.tag.formula.text", "A computed property needs a formula.")]
#[case::own_unknown(json!({"properties": {"00000000-0000-0000-0000-00000000006f": {"kind": "computed", "tag": {"name": "Level", "formula": {"text": "own(\"Lever\")"}}}}}), "properties.00000000-0000-0000-0000-00000000006f.tag.formula.text", "Character 1: The class has no property “Lever”.")]
#[case::reads_itself(json!({"properties": {"00000000-0000-0000-0000-00000000006f": {"kind": "computed", "tag": {"name": "Level", "formula": {"text": "own(\"Level\") + 1"}}}}}), "properties.00000000-0000-0000-0000-00000000006f.tag.formula.text", "It would read itself")]
#[case::like_parts(json!({"parts": {"00000000-0000-0000-0000-000000000083": {"name": "Pump", "class": "00000000-0000-0000-0000-000000000002", "count": 2}}}), "parts.00000000-0000-0000-0000-000000000083.name", "Several parts need names of their own: write [[Number]] where they differ.")]
#[case::part_of_itself(json!({"parts": {"00000000-0000-0000-0000-000000000083": {"name": "Inner", "class": "00000000-0000-0000-0000-000000000001"}}}), "parts", "The class would be a part of itself")]
#[case::same_name(json!({"parameters": {"00000000-0000-0000-0000-000000000065": {"name": "level", "kind": "number"}}}), "properties.00000000-0000-0000-0000-00000000006f.tag.name", "The class has “Level” already.")]
#[case::known_name(json!({"parameters": {"00000000-0000-0000-0000-000000000065": {"name": "number", "kind": "number"}}}), "parameters.00000000-0000-0000-0000-000000000065.name", "Every class knows “number” already; enter another name.")]
#[case::wrong_default(json!({"parameters": {"00000000-0000-0000-0000-000000000065": {"name": "Depth", "kind": "number", "default": "3"}}}), "parameters.00000000-0000-0000-0000-000000000065.default", "This must be a number.")]
fn what_is_wrong_with_a_class_is_told_at_its_field(#[case] change: Json, #[case] field: &str, #[case] words: &str) {
    let class = json!({"name": "Plain", "properties": {(id(LEVEL).to_string()): {"tag": {"name": "Level"}}}});
    let plant = done(&plant(), &[create(Kind::Class, 4, class)]);
    let mut change = change;
    if let Some(class) =
        change.pointer_mut("/parts/00000000-0000-0000-0000-000000000083/class").filter(|c| c.as_str() == Some(&id(1).to_string()))
    {
        *class = json!(id(4));
    }
    let problems = try_on(&plant, &[patch(Kind::Class, id(4), change)]).unwrap_err();
    let told: Vec<_> = problems.iter().map(|p| (p.field.as_str(), p.message.as_str())).collect();
    assert!(told.iter().any(|(at, message)| *at == field && message.starts_with(words)), "{told:?}");
}

#[test]
fn what_goes_wrong_on_instances_is_told_once_at_the_class() {
    let plant = plant();
    let (one, two) = (tag(&plant, "Extraction/EX-1/Level").id, tag(&plant, "Extraction/EX-2/Level").id);
    let high = [one, two].map(|tag| patch(Kind::Tag, tag, json!({"range_high": 3.0})));
    let plant = done(&plant, &high);
    let mut class = vessel();
    class["properties"][id(LEVEL).to_string()]["tag"]["range_low"] = json!(3.5);
    let problems = try_on(&plant, &[patch(Kind::Class, id(1), json!({"properties": class["properties"]}))]).unwrap_err();
    assert_eq!(problems.len(), 1, "{problems:?}");
    assert_eq!(problems[0].field, format!("properties.{}.tag.range_high", id(LEVEL)));
    assert!(problems[0].message.ends_with(" and 1 more: The upper end must lie above 3.5."), "{problems:?}");
    // A parameter of one instance is told there.
    let wrong = json!({"parameters": {(id(BASE).to_string()): "hundred"}});
    let problems = try_on(&plant, &[patch(Kind::Place, id(11), wrong)]).unwrap_err();
    assert!(problems.iter().any(|p| p.field == format!("parameters.{}", id(BASE)) || p.field == "parameters"), "{problems:?}");
}

#[rstest]
#[case::class_in_use(delete(Kind::Class, id(1)), "2 ")]
#[case::class_of_a_part(delete(Kind::Class, id(2)), "the class “Vessel” has it as a part")]
#[case::connection_of_a_parameter(delete(Kind::Connection, id(5)), "a parameter of “Extraction/EX-1” names it")]
fn what_classes_and_instances_use_stays(#[case] edit: Edit, #[case] words: &str) {
    let problems = try_on(&plant(), &[edit]).unwrap_err();
    assert!(problems[0].message.contains(words) || problems[0].message.contains("is an instance of it"), "{problems:?}");
}

#[test]
fn a_form_that_gives_whole_objects_makes_only_the_difference_own() {
    let plant = plant();
    let level = tag(&plant, "Extraction/EX-1/Level").id;
    let given = |point: Json| {
        let mut edits = [patch(Kind::Tag, level, json!({"point": point, "unit": "m"}))];
        as_own(&plant, &mut edits);
        let Op::Patch(set) = &edits[0].op else { unreachable!() };
        json!(set)
    };
    assert_eq!(given(json!({"offset": 102})), json!({"point": null, "unit": "m"}));
    assert_eq!(given(json!({"offset": 7})), json!({"point": {"offset": 7}, "unit": "m"}));
    assert_eq!(given(json!({"offset": 102, "type": "f32"})), json!({"point": {"type": "f32"}, "unit": "m"}));
    assert_eq!(given(json!({})), json!({"point": {"offset": layers::empty()}, "unit": "m"}));
    // A class that extends another keeps what it does not change.
    let plant = done(&plant, &[create(Kind::Class, 3, json!({"name": "Tall", "extends": id(1)}))]);
    let mut whole = json!(plant.classes[&id(3)].set.properties);
    whole[id(LEVEL).to_string()]["tag"]["range_high"] = json!(9.0);
    let mut edits = [patch(Kind::Class, id(3), json!({"properties": whole}))];
    as_own(&plant, &mut edits);
    let plant = done(&plant, &edits);
    let said = json!({(id(LEVEL).to_string()): {"tag": {"range_high": 9.0}}});
    assert_eq!(plant.classes[&id(3)].own["properties"], said);
}

#[test]
fn what_would_not_come_to_an_end_is_refused_at_once() {
    let plant = plant();
    // A pump of a vessel has vessels, and there are instances of both.
    let inner = json!({(id(150).to_string()): {"name": "Inner", "class": id(1)}});
    let problems = try_on(&plant, &[patch(Kind::Class, id(2), json!({"parts": inner}))]).unwrap_err();
    assert!(problems.iter().any(|p| p.message.starts_with("The class would be a part of itself")), "{problems:?}");
    // Twelve levels, each with ten parts of the one below.
    let mut edits =
        vec![create(Kind::Class, 600, json!({"name": "C0", "properties": {(id(700).to_string()): {"tag": {"name": "V"}}}}))];
    for n in 1..12u128 {
        let parts: Own =
            (0..10).map(|p| (id(800 + 10 * n + p).to_string(), json!({"name": format!("P{p}"), "class": id(599 + n)}))).collect();
        edits.push(create(Kind::Class, 600 + n, json!({"name": format!("C{n}"), "parts": parts})));
    }
    let problems = try_on(&plant, &edits).unwrap_err();
    assert!(problems.iter().any(|p| p.message.ends_with("items; at most 5000 are possible.")), "{problems:?}");
    // Many large ones at once.
    let edits: Vec<Edit> = edits.into_iter().take(4).collect();
    let plant = done(&plant, &edits);
    let many = (0..100).map(|n| create(Kind::Place, 9000 + n, json!({"name": format!("M{n}"), "class": id(603)})));
    let problems = try_on(&plant, &many.collect::<Vec<_>>()).unwrap_err();
    assert!(problems.iter().any(|p| p.message.starts_with("This would make more than 200000 items at once")), "{problems:?}");
}

#[test]
fn a_tag_of_an_instance_stays_with_it() {
    let plant = plant();
    let level = tag(&plant, "Extraction/EX-1/Level").id;
    let problems = try_on(&plant, &[patch(Kind::Tag, level, json!({"place": id(10)}))]).unwrap_err();
    assert_eq!(problems[0].field, "place");
    let problems = try_on(&plant, &[create(Kind::Tag, 90, json!({"place": id(11), "property": id(LEVEL)}))]).unwrap_err();
    assert!(problems[0].message.starts_with("The equipment has another one"), "{problems:?}");
    let problems = try_on(&plant, &[create(Kind::Tag, 90, json!({"place": id(11), "property": id(77)}))]).unwrap_err();
    assert!(problems[0].message.starts_with("The class of the equipment has nothing"), "{problems:?}");
    let problems = try_on(&plant, &[create(Kind::Tag, 90, json!({"place": id(10), "property": id(77)}))]).unwrap_err();
    assert!(!problems.is_empty());
    // A tag of its own stands beside.
    let plant = done(&plant, &[create(Kind::Tag, 90, json!({"place": id(11), "name": "Colour"}))]);
    assert_eq!(plant.tags.len(), 11);
    let problems = try_on(&plant, &[create(Kind::Tag, 91, json!({"place": id(11), "name": "Level"}))]).unwrap_err();
    assert_eq!(problems[0].field, "name");
}

#[test]
fn a_place_that_loses_its_class_loses_what_it_said() {
    let plant = plant();
    let (next, changes) = try_on(&plant, &[patch(Kind::Place, id(11), json!({"class": null}))]).unwrap();
    assert_eq!((next.tags.len(), next.places.len()), (5, plant.places.len() - 2));
    assert_eq!(differences(&done(&next, &inverse(&changes)), &plant, true), "");
}

#[test]
fn what_a_change_of_a_class_comes_to_shows_before() {
    let plant = plant();
    let (one, two) = (tag(&plant, "Extraction/EX-1/Level").id, tag(&plant, "Extraction/EX-2/Level").id);
    let plant = done(&plant, &[patch(Kind::Tag, two, json!({"range_high": 5.0}))]);
    let mut class = vessel();
    let level = id(LEVEL).to_string();
    class["properties"][&level]["tag"]["range_high"] = json!(6.0);
    class["properties"][&level]["tag"]["record"] = json!(false);
    class["properties"][&level]["rules"] = json!({});
    class["properties"][id(114).to_string()] = json!({"tag": {"name": "Temperature", "record": true}});
    let next = done(&plant, &[patch(Kind::Class, id(1), json!({"properties": class["properties"]}))]);
    let difference = difference::Difference::between(&plant, &next);
    let lines: Vec<_> =
        difference.lines.iter().map(|l| (l.title.as_str(), l.field.as_str(), l.items.len(), l.kept.clone())).collect();
    let expected = [
        ("Vessel · Level", "range_high", 1, vec![two]),
        ("Vessel · Level", "record", 2, vec![]),
        ("Vessel · Temperature", "", 2, vec![]),
        ("Vessel · Level · high", "", 2, vec![]),
    ];
    assert_eq!(lines, expected);
    assert_eq!((&difference.lines[0].before, &difference.lines[0].after), (&Some(json!(4.0)), &Some(json!(6.0))));
    assert_eq!(difference.lines[0].items, [one]);
    let counts = (difference.alarms_begin, difference.alarms_end, difference.recordings_begin, difference.recordings_end);
    assert_eq!((counts, difference.tags_made, difference.tags_removed, difference.places.len()), ((0, 2, 2, 2), 2, 0, 2));
    assert_eq!(difference::Difference::between(&plant, &plant), difference::Difference::default());
}

#[test]
fn a_limit_of_the_class_is_emptied_and_written_again_in_the_sheet() {
    use crate::plant::table::{self, Row, Written};
    let plant = plant();
    let level = tag(&plant, "Extraction/EX-1/Level").id;
    let write = |plant: &Plant, text: &str| {
        let cells = vec![Written { column: "limit_high".into(), text: text.into(), was: None }];
        let edits = table::plan(plant, Kind::Tag, &[Row { id: level, fresh: false, cells }], &mut || id(9999)).unwrap();
        done(plant, &edits.into_iter().map(|planned| planned.edit).collect::<Vec<_>>())
    };
    let shown = |plant: &Plant| {
        let at = table::columns(Kind::Tag).iter().position(|c| c.key == "limit_high").unwrap();
        table::cells(plant, Kind::Tag, level)[at].clone()
    };
    assert_eq!(shown(&plant), "3.5");
    let without = write(&plant, "");
    assert_eq!((shown(&without), without.rules.len()), (String::new(), plant.rules.len()));
    // Of an address only what was written is the instance's own.
    let cells = vec![Written { column: "type".into(), text: "f32".into(), was: None }];
    let edits = table::plan(&plant, Kind::Tag, &[Row { id: level, fresh: false, cells }], &mut || id(9999)).unwrap();
    let typed = done(&plant, &edits.into_iter().map(|planned| planned.edit).collect::<Vec<_>>());
    assert_eq!(typed.tags[&level].own["point"], json!({"type": "f32"}));
    assert_eq!(typed.tags[&level].set.point.get("offset"), Some(&json!(102)));
    let again = write(&without, "3.2");
    assert_eq!(shown(&again), "3.2");
    assert!(again.rules.values().all(|rule| rule.set.enabled));
}

/// Where two plants differ: items, their own and effective settings, and their numbers.
fn differences(a: &Plant, b: &Plant, numbers: bool) -> String {
    let mut told = String::new();
    for kind in Kind::ALL {
        for id in a.ids(kind).into_iter().chain(b.ids(kind)) {
            let of = |plant: &Plant| {
                let own = plant.own(kind, id).map(|(own, no, _)| (json!(own), if numbers { no } else { 0 }));
                (own, json!(plant.effective(kind, id)))
            };
            if of(a) != of(b) {
                told += &format!("{} {id}: {:?} / {:?}\n", kind.name(), of(a), of(b));
            }
        }
    }
    told
}

/// The same plant as it is read from what is stored.
fn reread(plant: &Plant) -> Plant {
    let stored = Kind::ALL.into_iter().flat_map(|kind| plant.ids(kind).into_iter().map(move |id| (kind, id)));
    let item = |(kind, id)| {
        let (own, no, revision) = plant.own(kind, id).unwrap();
        Stored { kind, id, no, revision, own: own.clone() }
    };
    let (plant, broken) = Plant::from_stored(plant.revision, stored.map(item).collect());
    assert!(broken.is_empty(), "{broken:?}");
    plant
}

mod equipment;
mod steps;
