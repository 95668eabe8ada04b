use super::*;
use havrel_core::plant::Stored;
use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value as Json, json};

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

fn plant(tags: &[(u128, &str, &str, &str)]) -> Plant {
    let mut stored = Vec::new();
    let mut add = |kind, n: u128, own: Json| {
        stored.push(Stored { kind, id: id(n), no: n as u32, revision: 3, own: own.as_object().unwrap().clone() });
    };
    add(Kind::Place, 1, json!({"name": "Works", "level": "site"}));
    add(Kind::Place, 2, json!({"name": "EX-1", "parent": id(1), "order": 1}));
    add(Kind::Connection, 7, json!({"name": "Extraction", "kind": "modbus"}));
    for (n, name, unit, note) in tags {
        add(Kind::Tag, *n, json!({"name": name, "place": id(2), "unit": unit, "note": note, "range_high": 82.5}));
    }
    if let Some((n, ..)) = tags.first() {
        add(Kind::Rule, 20, json!({"tag": id(*n), "kind": "high", "level": 80.0}));
    }
    Plant::from_stored(5, stored).0
}

const TAGS: &[(u128, &str, &str, &str)] = &[(10, "Level", "%", ""), (11, "pH", "", "-1 is low")];

/// The plant once a plan is taken in.
fn taken(plant: &Plant, plan: &Plan) -> Plant {
    let mut no = 500;
    let numbers = || {
        no += 1;
        no
    };
    havrel_core::plant::edit::apply(plant, &plan.edits, &(), numbers).unwrap().0
}

fn compared(plant: &Plant, kind: Kind, text: &str, remove: bool) -> Result<Plan, Vec<Wrong>> {
    let file = read(text.as_bytes(), kind)?;
    let mut next = 900u128;
    let mut fresh = || {
        next += 1;
        id(next)
    };
    match compare(plant, kind, &file, remove.then_some(None), &(), &mut fresh, &mut |_| true) {
        Ok(plan) => Ok(plan),
        Err(NoPlan::Wrong(wrong)) => Err(wrong),
        Err(NoPlan::Cancelled) => panic!("nobody cancelled"),
    }
}

#[rstest]
#[case("level", "level")]
#[case("=1+1", "'=1+1")]
#[case("+cmd|' /C calc'!A0", "'+cmd|' /C calc'!A0")]
#[case("@SUM(A1)", "'@SUM(A1)")]
#[case("-5.5", "-5.5")]
#[case("-a", "'-a")]
#[case("'=x", "''=x")]
#[case("'quoted", "'quoted")]
#[case("", "")]
fn no_spreadsheet_runs_a_cell(#[case] text: &str, #[case] written: &str) {
    assert_eq!((harmless(text).as_str(), restored(written).as_str()), (written, text));
}

#[rstest]
#[case(Kind::Place)]
#[case(Kind::Tag)]
#[case(Kind::Rule)]
fn what_was_written_changes_nothing(#[case] kind: Kind, #[values(Mark::Comma, Mark::Semicolon, Mark::Tab)] mark: Mark) {
    let plant = plant(TAGS);
    let text = String::from_utf8(write(&plant, kind, None, mark).unwrap()).unwrap();
    assert!(text.starts_with("\u{feff}id"));
    let plan = compared(&plant, kind, &text, true).unwrap();
    assert_eq!((plan.edits.len(), plan.unchanged), (0, items(&plant, kind, None).len()));
}

#[test]
fn added_changed_and_removed_are_told_with_before_and_after() {
    let plant = plant(TAGS);
    let text = "name;place;unit;range_high\nLevel;Works/EX-1;mm;1234,5\nFlow; Works / EX-1 ;m³/h;\n";
    let plan = compared(&plant, Kind::Tag, text, true).unwrap();
    let count = |outcome, kind| plan.counts.get(&(outcome, kind)).copied().unwrap_or(0);
    assert_eq!(
        (count(Outcome::Added, Kind::Tag), count(Outcome::Changed, Kind::Tag), count(Outcome::Removed, Kind::Tag)),
        (1, 1, 1)
    );
    let titles: Vec<_> = plan.differences.iter().map(|d| (d.outcome, d.title.as_str())).collect();
    assert_eq!(
        titles,
        [(Outcome::Removed, "Works/EX-1/pH"), (Outcome::Changed, "Works/EX-1/Level"), (Outcome::Added, "Works/EX-1/Flow")]
    );
    let cell = |c: &str, b: &str, a: &str| (c.to_owned(), b.to_owned(), a.to_owned());
    assert_eq!(plan.differences[1].cells, [cell("unit", "%", "mm"), cell("range_high", "82.5", "1234.5")]);
    // Without the wish to remove, what is not in the file stays.
    assert_eq!(compared(&plant, Kind::Tag, text, false).unwrap().counts.get(&(Outcome::Removed, Kind::Tag)), None);
}

#[test]
fn a_branch_may_be_made_by_one_file() {
    let plant = plant(&[]);
    let text = "parent,name,level\nWorks/Drying/Belt,Zone 1,equipment\nWorks,Drying,area\nWorks/Drying,Belt,unit\n";
    let plan = compared(&plant, Kind::Place, text, false).unwrap();
    assert_eq!(
        plan.differences.iter().map(|d| d.title.as_str()).collect::<HashSet<_>>(),
        HashSet::from(["Works/Drying/Belt/Zone 1", "Works/Drying", "Works/Drying/Belt"])
    );
    let rules = "tag,kind,level\nWorks/EX-1/Level,high high,90\nWorks/EX-1/Level,High,85\n";
    let plan = compared(&self::plant(TAGS), Kind::Rule, rules, false).unwrap();
    assert_eq!((plan.counts[&(Outcome::Added, Kind::Rule)], plan.counts[&(Outcome::Changed, Kind::Rule)]), (1, 1));
}

#[test]
fn rules_are_known_by_tag_and_name_and_plain_limits_by_their_kind() {
    let plant = plant(TAGS);
    let first =
        "tag,name,kind,level\nWorks/EX-1/Level,At night,high,70\nWorks/EX-1/Level,At noon,high,90\nWorks/EX-1/Level,,high,80\n";
    let plan = compared(&plant, Kind::Rule, first, false).unwrap();
    assert_eq!((plan.counts[&(Outcome::Added, Kind::Rule)], plan.counts.get(&(Outcome::Added, Kind::Tag))), (2, None));
    let plant = taken(&plant, &plan);
    let again = "tag,name,kind,level\nWorks/EX-1/Level,At night,high,72\nWorks/EX-1/Level,At noon,low,90\n";
    let plan = compared(&plant, Kind::Rule, again, false).unwrap();
    assert_eq!((plan.counts[&(Outcome::Changed, Kind::Rule)], plan.counts.get(&(Outcome::Added, Kind::Rule))), (2, None));
    assert!(plan.differences.iter().any(|d| d.title == "Works/EX-1/Level At night"), "{:?}", plan.differences);
}

#[test]
fn places_that_are_left_out_go_with_what_is_in_them_but_not_with_what_stays() {
    let plant = plant(TAGS);
    let plan = compared(&plant, Kind::Place, "parent,name\n,Other\n", true).unwrap();
    assert_eq!((plan.counts[&(Outcome::Removed, Kind::Place)], plan.counts[&(Outcome::Removed, Kind::Tag)]), (2, 2));
    let wrong = compared(&plant, Kind::Place, "parent,name\nWorks,EX-1\n", true).unwrap_err();
    assert_eq!(wrong[0].message, "“Works” is not in the file, but this place under it is.");
}

#[rstest]
#[case::nothing("", 0, "", "The file is empty. Its first line names the columns.")]
#[case::unknown("name,colour\nx,red\n", 1, "colour", "There is no column “colour”.")]
#[case::twice_in_head("name,name\nx,y\n", 1, "name", "The column “name” appears twice.")]
#[case::ragged("name,place\nx\n", 2, "", "This row has 1 cells, the head names 2.")]
#[case::no_place("name,place\n\nx,Nowhere\n", 3, "place", "There is no place “Nowhere”.")]
#[case::no_number(
    "name,place,range_low\nLevel,Works/EX-1,1.234.5\n",
    2,
    "range_low",
    "“1.234.5” is not a number; write it like 82.5."
)]
#[case::same_twice("name,place\nLevel,Works/EX-1\nLevel,Works / EX-1\n", 3, "id", "This is the same item as on line 2.")]
#[case::no_id("id,name\nabc,x\n", 2, "id", "This is no id; leave it empty for a new row.")]
#[case::not_its_id("id,name\n00000000-0000-0000-0000-000000000001,x\n", 2, "id", "This id belongs to something else.")]
#[case::taken("id,name\n00000000-0000-0000-0000-00000000000a,pH\n", 2, "name", "There is already a tag “pH” here.")]
#[case::long(
    "name,place\nxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx,Works/EX-1\n",
    2,
    "name",
    "A name has at most 120 characters."
)]
fn what_is_wrong_is_told_by_line_and_column(#[case] text: &str, #[case] line: u64, #[case] column: &str, #[case] words: &str) {
    let wrong = compared(&plant(TAGS), Kind::Tag, text, false).unwrap_err();
    assert_eq!((wrong[0].line, wrong[0].column.as_str()), (line, column), "{wrong:?}");
    assert!(wrong[0].message.starts_with(words), "{wrong:?}");
}

#[rstest]
#[case(b"\xff\xfen\0a\0", 0)]
#[case(b"name,place\nL\xe9vel,Works\n", 2)]
fn another_encoding_is_told(#[case] bytes: &[u8], #[case] line: u64) {
    let wrong = read(bytes, Kind::Tag).unwrap_err();
    assert_eq!(wrong[0].line, line);
    assert!(wrong[0].message.contains("UTF-8"));
}

#[test]
fn a_million_rows_are_refused_and_a_comparison_can_be_stopped() {
    let many = format!("name\n{}", "x\n".repeat(1_000_000));
    assert!(read(many.as_bytes(), Kind::Tag).unwrap_err()[0].message.contains("at most 200000 rows"));
    let plant = plant(TAGS);
    let file = read("name,place,unit\nLevel,Works/EX-1,mm\n".as_bytes(), Kind::Tag).unwrap();
    let stopped = compare(&plant, Kind::Tag, &file, None, &(), &mut || id(1000), &mut |_| false);
    assert!(matches!(stopped, Err(NoPlan::Cancelled)));
    // Also while it is tried what the rows come to.
    let late = compare(&plant, Kind::Tag, &file, None, &(), &mut || id(1000), &mut |share| share < 0.5);
    assert!(matches!(late, Err(NoPlan::Cancelled)));
}

proptest! {
    /// Whatever stands in a text cell, the file reads back as the same plant.
    #[test]
    fn any_content_survives(notes in prop::collection::vec("\\PC{0,20}|['=+@\\-\t\r\n\";,]{0,6}.{0,5}", 1..6), mark in 0usize..3) {
        let tags: Vec<(u128, String)> = notes.iter().enumerate().map(|(i, n)| (10 + i as u128, n.clone())).collect();
        let names: Vec<String> = tags.iter().map(|t| format!("T{}", t.0)).collect();
        let rows: Vec<(u128, &str, &str, &str)> = tags.iter().zip(&names).map(|(t, n)| (t.0, n.as_str(), "", t.1.as_str())).collect();
        let plant = plant(&rows);
        let mark = [Mark::Comma, Mark::Semicolon, Mark::Tab][mark];
        let bytes = write(&plant, Kind::Tag, None, mark).unwrap();
        let text = String::from_utf8(bytes).unwrap();
        let plan = compared(&plant, Kind::Tag, &text, true).unwrap();
        prop_assert_eq!(plan.edits, vec![]);
    }

    /// Whatever bytes come: an answer, and no panic.
    #[test]
    fn any_bytes_are_answered(bytes in prop::collection::vec(any::<u8>(), 0..200), kind in 0usize..3) {
        let kind = [Kind::Place, Kind::Tag, Kind::Rule][kind];
        if let Ok(file) = read(&bytes, kind) {
            let _ = compare(&plant(TAGS), kind, &file, None, &(), &mut || id(1000), &mut |_| true);
        }
    }
}

/// A hostile file costs no more memory than what is shown of it: many columns, and many rows that do not fit.
#[test]
fn what_is_told_of_a_hostile_file_is_bounded() {
    let commas = ",".repeat(1_000_000);
    let wrong = read(commas.as_bytes(), Kind::Tag).unwrap_err();
    assert_eq!((wrong.len(), wrong[0].message.as_str()), (1, "The first line names 1000001 columns; there are at most 200."));
    let rows = "place,name\n".to_owned() + &"a,b,c\n".repeat(50_000);
    assert_eq!(read(rows.as_bytes(), Kind::Tag).unwrap_err().len(), MOST_SHOWN);
    let ids = "id,name\n".to_owned() + &"no id,b\n".repeat(50_000);
    assert_eq!(compared(&plant(TAGS), Kind::Tag, &ids, false).unwrap_err().len(), MOST_SHOWN);
}
