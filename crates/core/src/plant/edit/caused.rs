//! Problems with items that nobody edited: their class was, or the equipment that they belong to.

use super::{
    Plant, Problem, ProblemKind,
    instances::{self, Told},
};
use std::collections::HashMap;
use uuid::Uuid;

/// What is wrong with items that were not edited themselves: their class was, or the equipment that they belong to.
#[derive(Default)]
pub(super) struct Caused {
    /// What caused an item to be another one, by the item.
    pub causes: HashMap<Uuid, Uuid>,
    /// By edit, field and words: at which items.
    found: Vec<(usize, String, String, Vec<String>)>,
}

impl Caused {
    pub fn tell(&mut self, plant: &Plant, edit: usize, itself: bool, told: Told, cause: Uuid) {
        let title = plant.title(told.kind, told.id);
        let (field, title) = if itself {
            (told.field, String::new())
        } else if plant.classes.contains_key(&cause) {
            let field = instances::field_of_class(plant, &told, cause).unwrap_or_default();
            (field, title)
        } else {
            ("parameters".into(), title)
        };
        match self.found.iter_mut().find(|(e, f, words, _)| (*e, f.as_str(), words.as_str()) == (edit, &field, &told.words)) {
            Some((.., titles)) => titles.push(title),
            None => self.found.push((edit, field, told.words, vec![title])),
        }
    }

    pub fn problems(&mut self) -> Vec<Problem> {
        let problem = |(edit, field, words, titles): (usize, String, String, Vec<String>)| {
            let message = match (titles.first().filter(|title| !title.is_empty()), titles.len()) {
                (None, _) => words,
                (Some(title), 1) => format!("“{title}”: {words}"),
                (Some(title), count) => format!("“{title}” and {} more: {words}", count - 1),
            };
            Problem { kind: ProblemKind::Invalid, edit, field, message }
        };
        std::mem::take(&mut self.found).into_iter().map(problem).collect()
    }
}
