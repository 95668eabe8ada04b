//! Classes made of equipment, many made of a class, and equipment that changes or leaves its class.

use super::*;

/// Four vessels as somebody made them one by one: addresses with a stride, one with another range, one without a tag, a formula.
fn by_hand() -> Plant {
    let mut edits = vec![create(Kind::Connection, 5, json!({"name": "Extraction", "kind": "modbus"}))];
    for n in 0..4u128 {
        let place = 20 + n;
        edits.push(create(Kind::Place, place, json!({"name": format!("EX-{}", n + 1), "level": "equipment"})));
        let point = |more: u128| json!({"address": format!("holding {}", 100 + 40 * n + more), "type": "f32"});
        let range = if n == 2 { 5.0 } else { 4.0 };
        let set = json!({"name": "Level", "place": id(place), "connection": id(5), "point": point(0), "unit": "m", "range_high": range, "setpoint": id(310 + n), "writable": false, "order": 10 * n});
        edits.push(create(Kind::Tag, 300 + n, set));
        edits.push(create(
            Kind::Tag,
            310 + n,
            json!({"name": "Setpoint", "place": id(place), "connection": id(5), "point": point(2), "writable": true}),
        ));
        edits.push(create(Kind::Tag, 320 + n, json!({"name": "Twice", "place": id(place), "unit": "m", "formula": {"text": format!("at(\"{}\") * 2", id(300 + n))}})));
        if n != 1 {
            let topic = json!({"topic": format!("works/EX-{}/ph", n + 1)});
            edits.push(create(
                Kind::Tag,
                330 + n,
                json!({"name": "pH", "place": id(place), "connection": id(5), "point": topic}),
            ));
        }
        if n != 3 {
            edits.push(create(Kind::Rule, 340 + n, json!({"tag": id(300 + n), "kind": "high", "level": 3.5 + n as f64})));
        }
    }
    done(&Plant::default(), &edits)
}

#[test]
fn a_class_made_of_equipment_changes_nothing_of_what_it_does() {
    let plant = by_hand();
    let alike: Vec<_> = plant.alike(id(20)).into_iter().map(|a| (a.place, a.shared, a.missing, a.more)).collect();
    assert_eq!(alike, [(id(22), 4, 0, 0), (id(23), 4, 0, 0), (id(21), 3, 1, 0)]);
    let mut next = 7000;
    let new_id = || {
        next += 1;
        id(next)
    };
    let made = plant.class_made_of("Vessel", &[20, 21, 22, 23].map(id), new_id).unwrap();
    let (after, changes) = try_on(&plant, &made.edits).unwrap();
    let class = &after.classes[&made.class].set;
    let parameters: Vec<_> = class.parameters.values().map(|p| (p.name.as_str(), p.kind)).collect();
    assert_eq!(parameters, [("Base", crate::plant::ParameterKind::Number)]);
    let said = |name: &str| class.properties.values().find(|p| p.name() == name).unwrap().tag.clone();
    assert_eq!(said("Level")["point"]["address"], "holding [[Base]]");
    assert_eq!(said("Setpoint")["point"]["address"], "holding [[Base + 2]]");
    assert_eq!(said("pH")["point"]["topic"], "works/[[Name]]/ph");
    // What each tag is and does is as before; only who says it is another.
    for (tag, was) in plant.tags.iter() {
        let mut now = after.tags[tag].set.clone();
        assert!(now.property.take().is_some());
        now.order = was.set.order;
        assert_eq!(now, was.set);
    }
    for (rule, was) in plant.rules.iter() {
        let mut now = after.rules[rule].set.clone();
        assert!(now.class_rule.take().is_some());
        assert_eq!(now, was.set);
    }
    let added: Vec<_> = after.rules.values().filter(|rule| !plant.rules.contains_key(&rule.id)).map(|r| r.set.enabled).collect();
    assert_eq!((after.tags.len(), added), (plant.tags.len(), vec![false]));
    assert_eq!(after.places[&id(21)].set.without.len(), 1);
    let level = &after.tags[&id(302)].own;
    assert_eq!((level.len(), &level["range_high"]), (3, &json!(5.0)));
    assert_eq!(after.tags[&id(300)].own.len(), 2);
    assert_eq!(differences(&done(&after, &inverse(&changes)), &plant, true), "");
    // Another class is not made of it again.
    assert!(after.class_made_of("Other", &[id(20)], || id(9000)).unwrap_err().contains("is of a class already"));
}

#[test]
fn equipment_leaves_its_class_as_it_is() {
    let plant = plant();
    let level = tag(&plant, "Extraction/EX-1/Level").id;
    let plant = done(&plant, &[patch(Kind::Tag, level, json!({"note": "as built", "range_high": layers::empty()}))]);
    let (after, changes) = try_on(&plant, &plant.without_class(id(11)).unwrap()).unwrap();
    for (id, was) in plant.tags.iter() {
        let mut now = after.tags[id].set.clone();
        now.property = was.set.property;
        assert_eq!(now, was.set);
        assert_eq!(after.tags[id].no, was.no);
    }
    let own = after.tags.values().filter(|t| t.set.place == id(11)).filter(|t| t.set.property.is_none()).count();
    assert_eq!((own, after.rules.len(), after.places.len()), (3, plant.rules.len(), plant.places.len()));
    // Its pumps are still pumps, and no longer follow the vessel.
    let pump = after.places.values().find(|p| p.set.name == "Pump 1" && p.set.parent == Some(id(11))).unwrap();
    assert_eq!((pump.set.class, pump.set.part), (Some(id(2)), None));
    assert_eq!(differences(&done(&after, &inverse(&changes)), &plant, true), "");
    assert!(plant.without_class(id(10)).is_err());
    let part = plant.places.values().find(|p| p.set.part.is_some()).unwrap().id;
    assert!(plant.without_class(part).unwrap_err().contains("part of other equipment"));
}

#[test]
fn equipment_of_another_class_keeps_the_tags_that_are_taken_for_others() {
    let other = json!({"name": "Tank",
    "parameters": {(id(201).to_string()): {"name": "Base", "kind": "number"}},
    "properties": {
        (id(211).to_string()): {"tag": {"name": "level", "unit": "cm", "point": {"offset": "[[Base + 9]]"}}},
        (id(212).to_string()): {"tag": {"name": "Volume", "unit": "l"}},
        (id(213).to_string()): {"tag": {"name": "Depth setpoint", "unit": "m"}},
    }});
    let plant = done(&plant(), &[create(Kind::Class, 4, other)]);
    let taken: Vec<_> = plant.taken_for(id(11), id(4)).into_iter().map(|t| (t.name, t.to)).collect();
    let expected = [("Level", Some(id(211))), ("Level setpoint", Some(id(213))), ("Share", None)];
    assert_eq!(taken, expected.map(|(name, to)| (name.to_owned(), to)));
    let taken = HashMap::from([(id(LEVEL), id(211)), (id(SETPOINT), id(213))]);
    let (after, changes) = try_on(&plant, &plant.with_class(id(11), id(4), &taken).unwrap()).unwrap();
    let of = ["Depth setpoint", "Volume", "level"].map(|name| format!("Extraction/EX-1/{name}"));
    assert_eq!(paths(&after)[..3], of);
    let level = tag(&after, "Extraction/EX-1/level");
    assert_eq!((level.id, level.no), {
        let was = tag(&plant, "Extraction/EX-1/Level");
        (was.id, was.no)
    });
    assert_eq!((level.set.unit.as_str(), level.set.point.get("offset")), ("cm", Some(&json!(109))));
    assert_eq!(differences(&done(&after, &inverse(&changes)), &plant, true), "");
}

#[test]
fn many_are_made_from_one_row_of_patterns() {
    let plant = plant();
    let cells = |base: &str, controller: &str| [(id(BASE), base.to_owned()), (id(CONTROLLER), controller.to_owned())].into();
    let row = |name: &str, place: &str, base: &str, controller: &str| many::Row {
        name: name.into(),
        place: place.into(),
        class: id(1),
        cells: cells(base, controller),
    };
    let rows = many::rows(&row("VX-{1..8}", "Extraction", "{1000 by 40}", "Extraction")).unwrap();
    assert_eq!((rows.len(), rows[7].name.as_str(), rows[7].cells[&id(BASE)].as_str()), (8, "VX-8", "1280"));
    let mut next = 3000;
    let mut new_id = || {
        next += 1;
        id(next)
    };
    let (after, changes) = try_on(&plant, &plant.equipment(&rows, &mut new_id).unwrap()).unwrap();
    assert_eq!(after.tags.len(), plant.tags.len() + 8 * 5);
    let last = tag(&after, "Extraction/VX-8/Pump 2/Runs");
    assert_eq!((last.set.connection, last.set.point.get("offset")), (Some(id(5)), Some(&json!(1300))));
    assert_eq!(differences(&done(&after, &inverse(&changes)), &plant, true), "");
    // What is wrong is told by cell.
    let wrong = [row("A", "Extraction", "1", "Extraction"), row("B", "Nowhere", "one", "Wash")];
    let told: Vec<_> = plant.equipment(&wrong, &mut new_id).unwrap_err().into_iter().map(|t| (t.row, t.column)).collect();
    assert_eq!(told, [(1, "place".to_owned()), (1, id(BASE).to_string()), (1, id(CONTROLLER).to_string())]);
    let told = many::rows(&row("A{1..3}", "Extraction", "{1..4}", "")).unwrap_err();
    assert_eq!(told[0].column, id(BASE).to_string());
    let problems = try_on(&plant, &plant.equipment(&[row("EX-1", "Extraction", "1", "")], &mut new_id).unwrap()).unwrap_err();
    assert_eq!((problems[0].edit, problems[0].field.as_str()), (0, "name"));
}
