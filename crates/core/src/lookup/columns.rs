//! The columns of a lookup.

use super::{Lookup, Rows, Shape};
use crate::{
    history::Figure,
    plant::{Item, Plant, Tag},
};
use std::sync::Arc;
use uuid::Uuid;

/// What stands in a column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum What {
    /// When it was stored, the even instant, or when the span begins.
    Time,
    /// When the span ends.
    To,
    /// The path of the tag.
    Tag,
    Unit,
    Value,
    /// Why the value is doubtful; `good` where it is not.
    Quality,
    /// What else is known of a stored value: late, its own time, computed later.
    Marks,
    Figure(Figure),
    /// How long the value was this number, in seconds.
    InState(i64),
}

/// A column of a lookup.
#[derive(Clone, Debug, PartialEq)]
pub struct Column {
    /// What it is called; no two columns are called alike.
    pub title: String,
    pub what: What,
    /// The index of its tag; none where each row has its own.
    pub tag: Option<usize>,
    /// The engineering unit, where all its cells have the same.
    pub unit: String,
    /// Digits with which its numbers are shown.
    pub decimals: u8,
    /// The names of its states.
    pub states: Option<Uuid>,
}

impl Column {
    fn plain(title: &str, what: What) -> Column {
        Column { title: title.into(), what, tag: None, unit: String::new(), decimals: 0, states: None }
    }
}

/// The columns of a lookup of these tags.
pub(super) fn of(plant: &Plant, lookup: &Lookup, tags: &[Arc<Item<Tag>>]) -> Vec<Column> {
    let mut all = match &lookup.rows {
        Rows::Spans { .. } => vec![Column::plain("From", What::Time), Column::plain("To", What::To)],
        _ => vec![Column::plain("Time", What::Time)],
    };
    match lookup.shape {
        Shape::Long => {
            all.push(Column::plain("Tag", What::Tag));
            match &lookup.rows {
                Rows::Spans { figures, .. } => {
                    let head = |figure: Figure| {
                        let words = figure.words();
                        words[..1].to_uppercase() + &words[1..]
                    };
                    all.extend(sorted(figures).map(|figure| {
                        let (unit, decimals) = plain_unit(figure);
                        Column { unit: unit.into(), decimals, ..Column::plain(&head(figure), What::Figure(figure)) }
                    }));
                    all.push(Column::plain("Unit", What::Unit));
                }
                _ => {
                    let rest = [("Value", What::Value), ("Unit", What::Unit), ("Quality", What::Quality)];
                    all.extend(rest.map(|(title, what)| Column::plain(title, what)));
                }
            }
            if matches!(lookup.rows, Rows::Stored { .. }) {
                all.push(Column::plain("Marks", What::Marks));
            }
        }
        Shape::Wide => {
            for (index, tag) in tags.iter().enumerate() {
                wide(plant, lookup, index, tag, &mut all);
            }
        }
    }
    // Every state of a set has a name of its own, but a tag may be called like a column beside another.
    let mut seen = std::collections::HashSet::new();
    for column in &mut all {
        let title = column.title.clone();
        let mut number = 2;
        while !seen.insert(column.title.clone()) {
            column.title = format!("{title} ({number})");
            number += 1;
        }
    }
    all
}

/// Unit and digits of a figure that is not in the unit of its tag.
fn plain_unit(figure: Figure) -> (&'static str, u8) {
    if figure == Figure::Good { ("%", 1) } else { ("", 0) }
}

fn sorted(figures: &[Figure]) -> impl Iterator<Item = Figure> {
    Figure::ALL.into_iter().filter(|figure| figures.contains(figure))
}

fn wide(plant: &Plant, lookup: &Lookup, index: usize, tag: &Item<Tag>, all: &mut Vec<Column>) {
    let path = plant.tag_path(&tag.set);
    let own = |title: String, what: What| Column {
        title,
        what,
        tag: Some(index),
        unit: tag.set.unit.clone(),
        decimals: tag.set.decimals,
        states: tag.set.states,
    };
    let Rows::Spans { figures, .. } = &lookup.rows else {
        all.push(own(path.clone(), What::Value));
        if lookup.qualities {
            let quality = Column::plain(&format!("{path}, quality"), What::Quality);
            all.push(Column { tag: Some(index), ..quality });
        }
        return;
    };
    for figure in sorted(figures) {
        let titled = |words: &str| format!("{path}, {words}");
        match figure {
            Figure::States => all.extend(plant.state_names(&tag.set).into_iter().map(|(number, name)| {
                let column = own(titled(&format!("time “{name}”")), What::InState(number));
                Column { unit: "s".into(), decimals: 0, states: None, ..column }
            })),
            Figure::Count | Figure::Good => {
                let column = own(titled(figure.words()), What::Figure(figure));
                let (unit, decimals) = plain_unit(figure);
                all.push(Column { unit: unit.into(), decimals, states: None, ..column });
            }
            // What lies between two states has no name.
            Figure::Average | Figure::Sum => {
                let column = own(titled(figure.words()), What::Figure(figure));
                all.push(Column { states: None, ..column });
            }
            _ => all.push(own(titled(figure.words()), What::Figure(figure))),
        }
    }
}
