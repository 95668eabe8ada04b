//! Forms as data: what the settings of a connection and the source of a tag ask for. The page makes its fields from these, so
//! a new kind of connection needs no form of its own.

use serde::Serialize;
use serde_json::Value as Json;
use utoipa::ToSchema;

/// Fields that belong together.
#[derive(Clone, Debug, Serialize, ToSchema)]
#[schema(as = FormSection)]
pub struct Section {
    /// Empty for the first one.
    pub title: &'static str,
    /// Whether it is closed until somebody opens it.
    pub folded: bool,
    pub fields: Vec<Field>,
}

/// One field.
#[derive(Clone, Debug, Serialize, ToSchema)]
#[schema(as = FormField)]
pub struct Field {
    /// Which setting, with dots: `interval_ms` or `settings.tls.trust` of a connection, `address` of a point.
    pub key: &'static str,
    pub label: &'static str,
    /// Beside the field; may be empty.
    pub hint: &'static str,
    #[serde(flatten)]
    pub control: Control,
    /// What holds where nothing is said.
    #[schema(value_type = serde_json::Value)]
    pub default: Json,
    /// Other defaults, while another field says something.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub defaults: Vec<DefaultWhile>,
    /// The field is only there while this holds.
    pub only: Option<While>,
    /// Sixths of the line that it takes.
    pub width: u8,
}

/// While a field has one of some values; without values, while it holds anything.
#[derive(Clone, Copy, Debug, Serialize, ToSchema)]
pub struct While {
    pub field: &'static str,
    pub is: &'static [&'static str],
}

/// A default that depends on another field.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct DefaultWhile {
    #[serde(rename = "while")]
    pub condition: While,
    #[schema(value_type = serde_json::Value)]
    pub default: Json,
}

/// How a field is asked for.
#[derive(Clone, Debug, Serialize, ToSchema)]
#[serde(tag = "control", rename_all = "snake_case")]
#[schema(as = FormControl, no_recursion)]
pub enum Control {
    Text,
    Number,
    /// One of a few.
    Choice {
        options: Vec<Choice>,
        /// The values are numbers.
        numbers: bool,
    },
    /// On or off.
    Tick,
    /// Any of a few numbers.
    Ticks {
        options: Vec<Choice>,
    },
    /// Digits and letters that are compared by eye.
    Fingerprint,
    /// Text that goes in and never comes out.
    Password,
    /// Text that usually lies in a file.
    Pem,
    /// The same; it goes in and never comes out.
    PemSecret,
    /// Numbers with something between them.
    Numbers,
    /// Rows of a table as text.
    Rows,
    /// An address of a device, shown as it goes on the wire while it is typed.
    Address,
    /// Several times the same fields.
    List {
        noun: &'static str,
        most: u8,
        fields: Vec<Field>,
    },
    /// The polling groups of a connection.
    Groups,
    /// The certificate of this installation: shown and handed out, not a setting.
    OwnCertificate,
}

/// One choice.
#[derive(Clone, Debug, Serialize, ToSchema)]
#[schema(as = FormChoice)]
pub struct Choice {
    /// As it is stored; the empty text leaves the field away.
    pub value: String,
    pub words: &'static str,
    /// It is only offered while this holds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub only: Option<While>,
}

impl Choice {
    pub fn new(value: impl Into<String>, words: &'static str) -> Choice {
        Choice { value: value.into(), words, only: None }
    }
}

/// Choices whose words are what is stored.
pub fn choices(values: &[&'static str]) -> Vec<Choice> {
    values.iter().map(|value| Choice::new(*value, value)).collect()
}

impl Field {
    pub fn new(key: &'static str, label: &'static str, control: Control) -> Field {
        Field { key, label, hint: "", control, default: Json::Null, defaults: Vec::new(), only: None, width: 1 }
    }

    pub fn text(key: &'static str, label: &'static str) -> Field {
        Field::new(key, label, Control::Text).usual("")
    }

    pub fn number(key: &'static str, label: &'static str) -> Field {
        Field::new(key, label, Control::Number)
    }

    pub fn tick(key: &'static str, label: &'static str, on: bool) -> Field {
        Field::new(key, label, Control::Tick).usual(on)
    }

    /// The first choice is the default.
    pub fn choice(key: &'static str, label: &'static str, options: Vec<Choice>) -> Field {
        let first = options.first().map(|c| c.value.clone()).unwrap_or_default();
        Field::new(key, label, Control::Choice { options, numbers: false }).usual(first)
    }

    /// The same with numbers.
    pub fn choice_of(key: &'static str, label: &'static str, numbers: &[(u32, &'static str)]) -> Field {
        let options = numbers.iter().map(|(n, words)| Choice::new(n.to_string(), words)).collect();
        Field::new(key, label, Control::Choice { options, numbers: true })
    }

    /// What holds where nothing is said.
    pub fn usual(mut self, default: impl Into<Json>) -> Field {
        self.default = default.into();
        self
    }

    /// What holds instead while another field says something.
    pub fn usual_while(mut self, field: &'static str, is: &'static [&'static str], default: impl Into<Json>) -> Field {
        self.defaults.push(DefaultWhile { condition: While { field, is }, default: default.into() });
        self
    }

    pub fn hint(mut self, hint: &'static str) -> Field {
        self.hint = hint;
        self
    }

    /// Only there while another field has one of these values; without values, while it holds anything.
    pub fn only(mut self, field: &'static str, is: &'static [&'static str]) -> Field {
        self.only = Some(While { field, is });
        self
    }

    pub fn width(mut self, sixths: u8) -> Field {
        self.width = sixths;
        self
    }
}
