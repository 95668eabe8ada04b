//! Alarm rules for many tags at once: what is written once becomes a row for each tag.

use super::{Row, Written, write::number};
use crate::plant::{Plant, Tag};
use std::collections::{BTreeMap, HashSet};
use uuid::Uuid;

/// What is written of one rule: texts by column. The level may be a part of the tag's range, as “90 %”.
pub type Template = BTreeMap<String, String>;

/// Rules that were not made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Passed {
    /// Why, as the rest of a sentence: “have no range of which 90 % could be taken”.
    pub why: String,
    /// The paths of their tags.
    pub tags: Vec<String>,
}

/// Rows for the table of rules: each template for each tag. A tag that has a rule of that name already keeps it.
pub fn rows(plant: &Plant, tags: &[Uuid], templates: &[Template], new_id: &mut dyn FnMut() -> Uuid) -> (Vec<Row>, Vec<Passed>) {
    let wanted: HashSet<Uuid> = tags.iter().copied().collect();
    let known: HashSet<(Uuid, &str)> =
        plant.rules.values().filter(|r| wanted.contains(&r.set.tag)).map(|r| (r.set.tag, r.set.known_as())).collect();
    let mut made = Vec::new();
    let mut passed: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for tag in tags.iter().filter_map(|id| plant.tags.get(id)) {
        let path = plant.tag_path(&tag.set);
        for template in templates {
            let text = |column: &str| template.get(column).map_or("", |text| text.trim());
            let name = if text("name").is_empty() { text("kind").replace('_', " ") } else { text("name").to_owned() };
            let name = if name == "rate" { "rate of change".into() } else { name };
            if known.contains(&(tag.id, name.as_str())) {
                passed.entry(format!("have a rule “{name}” already")).or_default().push(path.clone());
                continue;
            }
            let level = match level(text("level"), &tag.set) {
                Ok(level) => level,
                Err(why) => {
                    passed.entry(why).or_default().push(path.clone());
                    continue;
                }
            };
            let mut cells = vec![written("tag", &path)];
            for (column, text) in template.iter().filter(|(column, _)| !matches!(column.as_str(), "tag" | "level")) {
                if !text.trim().is_empty() {
                    cells.push(written(column, text));
                }
            }
            if !level.is_empty() {
                cells.push(written("level", &level));
            }
            made.push(Row { id: new_id(), fresh: true, cells });
        }
    }
    (made, passed.into_iter().map(|(why, tags)| Passed { why, tags }).collect())
}

fn written(column: &str, text: &str) -> Written {
    Written { column: column.to_owned(), text: text.to_owned(), was: None }
}

/// A level as it was written, for one tag.
fn level(text: &str, tag: &Tag) -> Result<String, String> {
    let Some(percent) = text.strip_suffix('%') else { return Ok(text.to_owned()) };
    let percent = number(percent)?;
    let (Some(low), Some(high)) = (tag.range_low, tag.range_high) else {
        return Err(format!("have no range of which {percent} % could be taken"));
    };
    let level = low + (high - low) * percent / 100.0;
    // One digit more than the tag shows is enough for a limit.
    let scale = 10f64.powi(i32::from(tag.decimals) + 1);
    Ok(format!("{}", (level * scale).round() / scale))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::{Kind, Own, Stored};
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    const fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    fn plant() -> Plant {
        let own = |set: Json| -> Own { set.as_object().cloned().unwrap_or_default() };
        let item = |kind, n, set: Json| Stored { kind, id: id(n), no: n as u32, revision: 1, own: own(set) };
        let tag = |name: &str| json!({"place": id(1), "name": name, "decimals": 1, "range_low": -20, "range_high": 60});
        let (plant, broken) = Plant::from_stored(
            1,
            vec![
                item(Kind::Place, 1, json!({"name": "EX-1"})),
                item(Kind::Tag, 10, tag("Level")),
                item(Kind::Tag, 11, tag("Temperature")),
                item(Kind::Tag, 12, json!({"place": id(1), "name": "Count"})),
                item(Kind::Rule, 20, json!({"tag": id(11), "kind": "high", "level": 1})),
            ],
        );
        assert_eq!(broken, []);
        plant
    }

    fn template(cells: &[(&str, &str)]) -> Template {
        cells.iter().map(|(column, text)| ((*column).to_owned(), (*text).to_owned())).collect()
    }

    #[rstest]
    #[case("90 %", "52")]
    #[case("33.33%", "6.66")]
    #[case("0 %", "-20")]
    #[case("12,5", "12,5")]
    #[case("Running", "Running")]
    #[case("", "")]
    fn a_level_can_be_a_part_of_the_range(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(level(text, &plant().tags[&id(10)].set).as_deref(), Ok(expected));
    }

    #[test]
    fn each_tag_gets_each_rule_that_it_can_have() {
        let templates =
            [template(&[("kind", "high"), ("level", "90 %"), ("priority", "3")]), template(&[("kind", "bad_quality")])];
        let mut next = 100;
        let new_id = &mut || {
            next += 1;
            id(next)
        };
        let (rows, passed) = rows(&plant(), &[id(10), id(11), id(12)], &templates, new_id);
        let tags: Vec<(&str, usize)> = rows.iter().map(|row| (row.cells[0].text.as_str(), row.cells.len())).collect();
        assert_eq!(tags, [("EX-1/Level", 4), ("EX-1/Level", 2), ("EX-1/Temperature", 2), ("EX-1/Count", 2)]);
        assert_eq!(
            passed,
            [
                Passed { why: "have a rule “high” already".into(), tags: vec!["EX-1/Temperature".into()] },
                Passed { why: "have no range of which 90 % could be taken".into(), tags: vec!["EX-1/Count".into()] },
            ]
        );
        let edits = crate::plant::table::plan(&plant(), Kind::Rule, &rows, new_id).unwrap();
        let (next, _) =
            crate::plant::edit::apply(&plant(), &edits.into_iter().map(|e| e.edit).collect::<Vec<_>>(), &(), || 0).unwrap();
        assert_eq!(next.rules.len(), 5);
    }
}
