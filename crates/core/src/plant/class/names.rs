//! How formulas of a class name its properties: people write `own("Level")` and `own("Zone 2/Temperature")`; stored is the identity
//! of the property, behind that of each part with its number.

use super::{Class, NUMBER};
use crate::{
    formula::{Formula, Wrong},
    plant::{Plant, class::DEEPEST, instances::fill},
};
use serde_json::Value as Json;
use uuid::Uuid;

impl Plant {
    /// What `own("…")` is stored as, for what somebody wrote. What is stored already, as in a file, stays.
    pub fn own_stored(&self, class: Uuid, written: &str) -> Option<String> {
        if self.own_shown(class, written).is_some() {
            return Some(written.to_owned());
        }
        let mut names: Vec<&str> = written.split('/').map(str::trim).collect();
        let last = names.pop()?;
        let (mut class, mut stored) = (&self.classes.get(&class)?.set, String::new());
        for name in names.into_iter().take(DEEPEST) {
            let mut parts = class.parts.iter().flat_map(|(id, part)| (1..=part.count).map(move |number| (id, part, number)));
            let (id, part, number) = parts.find(|(_, part, number)| called(&part.name, *number) == name)?;
            stored.push_str(&format!("{id}:{number}/"));
            class = &self.classes.get(&part.class)?.set;
        }
        Some(stored + &class.named(last)?.to_string())
    }

    /// What people read for what `own("…")` is stored as.
    pub fn own_shown(&self, class: Uuid, stored: &str) -> Option<String> {
        let mut ids: Vec<&str> = stored.split('/').collect();
        let last: Uuid = ids.pop()?.parse().ok()?;
        let (mut class, mut shown) = (&self.classes.get(&class)?.set, String::new());
        for id in ids {
            let (id, number) = id.split_once(':')?;
            let part = class.parts.get(&id.parse().ok()?)?;
            shown.push_str(&format!("{}/", called(&part.name, number.parse().ok()?)));
            class = &self.classes.get(&part.class)?.set;
        }
        let property = class.properties.get(&last).map(super::Property::name);
        Some(shown + property.or_else(|| Some(class.parameters.get(&last)?.name.as_str()))?)
    }

    /// A formula of a class as people read it.
    pub fn class_formula_shown(&self, class: Uuid, text: &str) -> String {
        let shown = |stored: &str| {
            let name = self.own_shown(class, stored);
            Some(Formula::call("own", name.as_deref().unwrap_or(stored)))
        };
        let text = Formula::with_own(text, shown).unwrap_or_else(|_| text.to_owned());
        self.formula_shown(&text)
    }

    /// A formula of a class as it is stored.
    ///
    /// # Errors
    /// What cannot be read, or a property or tag that there is not.
    pub fn class_formula_stored(&self, class: Uuid, text: &str) -> Result<String, Wrong> {
        let text = Formula::with_own(text, |written| Some(Formula::call("own", &self.own_stored(class, written)?)))?;
        Ok(self.formula_named(&text, None)?.text)
    }
}

impl Class {
    /// The property or parameter of this name.
    fn named(&self, name: &str) -> Option<Uuid> {
        let property = self.properties.iter().find(|(_, property)| property.name() == name).map(|(id, _)| *id);
        property.or_else(|| self.parameters.iter().find(|(_, parameter)| parameter.name == name).map(|(id, _)| *id))
    }
}

/// What a part is called where nothing but its number makes its name.
fn called(name: &str, number: u32) -> String {
    let mut scope = fill::Scope::default();
    scope.set(NUMBER, number.into());
    match fill::filled(&Json::String(name.to_owned()), &scope, &mut false) {
        Ok(Some(Json::String(name))) => name,
        Ok(Some(other)) => other.to_string(),
        _ => name.to_owned(),
    }
}
