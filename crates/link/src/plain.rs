//! Sources without a wire: memory that keeps what it is told, values that other programs push, and figures about Havrel
//! itself. Their values come from elsewhere in the program; here they are checked, shown and, for memory, written.

use crate::{
    Command, Kind, LinkError, LinkState, Ports, Runner, Wrong,
    form::{Choice, Field, Section},
    kind::{Capabilities, Description, Start},
    now,
};
use async_trait::async_trait;
use havrel_core::{
    plant::{Connection, Own, Tag, connection::MEMORY, resolve},
    quality::Quality,
    sample::{Batch, Value},
};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};
use std::sync::Arc;
use uuid::Uuid;

/// What other programs push.
pub const PUSH: &str = "push";
/// Figures about Havrel itself and its connections.
pub const FIGURES: &str = "figures";

/// A kind of connection without a wire.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Plain(&'static str);

/// What a tag of memory or push holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Holds {
    #[default]
    Number,
    Switch,
    Text,
}

impl Holds {
    /// Takes a value as JSON gives it.
    ///
    /// # Errors
    /// A value of another sort, with a sentence.
    pub fn take(self, json: &Json) -> Result<Value, &'static str> {
        match (self, json) {
            (Holds::Number, Json::Number(n)) => Value::of_json(n).ok_or("This number is too large."),
            (Holds::Number, Json::String(digits)) => Value::of_digits(digits).ok_or("Enter a number."),
            (Holds::Switch, Json::Bool(on)) => Ok(Value::Bool(*on)),
            (Holds::Switch, Json::Number(n)) if n.as_f64() == Some(0.0) => Ok(Value::Bool(false)),
            (Holds::Switch, Json::Number(n)) if n.as_f64() == Some(1.0) => Ok(Value::Bool(true)),
            (Holds::Text, Json::String(text)) if text.len() <= 4000 => Ok(Value::Text(text.clone())),
            (Holds::Text, Json::String(_)) => Err("A text has at most 4,000 bytes."),
            (Holds::Number, _) => Err("Enter a number."),
            (Holds::Switch, _) => Err("Enter true or false."),
            (Holds::Text, _) => Err("Enter text."),
        }
    }

    /// Turns a written value into what the tag holds.
    fn of(self, value: &Value) -> Result<Value, &'static str> {
        match (self, value) {
            (Holds::Number, Value::I64(_) | Value::U64(_)) => Ok(value.clone()),
            (Holds::Number, value) => value.number().map(Value::F64).ok_or("Enter a number."),
            (Holds::Switch, value) => match value.number() {
                Some(0.0) => Ok(Value::Bool(false)),
                Some(1.0) => Ok(Value::Bool(true)),
                _ => Err("Enter on or off (1 or 0)."),
            },
            (Holds::Text, Value::Text(text)) => Ok(Value::Text(text.clone())),
            (Holds::Text, _) => Err("Enter text."),
        }
    }
}

/// The point of a memory tag.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MemoryPoint {
    #[serde(default, rename = "type")]
    pub holds: Holds,
    /// Whether the value outlasts a restart.
    #[serde(default)]
    pub keep: bool,
    /// What it holds before anybody sets it.
    #[serde(default)]
    pub initial: Option<Json>,
}

/// The point of a pushed tag.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PushPoint {
    #[serde(default, rename = "type")]
    pub holds: Holds,
}

/// Something Havrel knows about itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Figure {
    /// Of a connection: 1 while it runs, 0 otherwise.
    Running,
    P50,
    P95,
    Rate,
    Errors,
    Overruns,
    Reconnects,
    /// Age of the oldest current value among its tags, in seconds.
    Oldest,
    /// Seconds since the device answered last.
    Silent,
    /// Which address is in use, 0 the first.
    Path,
    /// Of the whole program: share of the spool that is used, in percent.
    SpoolFill,
    /// Seconds since when not all is in the database.
    SpoolAge,
    /// Samples lost because the spool was full.
    SpoolLost,
    /// Tags whose value is bad.
    BadTags,
    /// Alarms that stand.
    Alarms,
}

impl Figure {
    /// Every figure, with the words people read, its engineering unit, and whether it is a connection's.
    pub const ALL: [(Figure, &'static str, &'static str, bool); 15] = [
        (Figure::Running, "Running", "", true),
        (Figure::P50, "Round trip p50", "ms", true),
        (Figure::P95, "Round trip p95", "ms", true),
        (Figure::Rate, "Values a second", "1/s", true),
        (Figure::Errors, "Errors", "", true),
        (Figure::Overruns, "Skipped polls", "", true),
        (Figure::Reconnects, "Reconnects", "", true),
        (Figure::Oldest, "Oldest value", "s", true),
        (Figure::Silent, "Since last answer", "s", true),
        (Figure::Path, "Address in use", "", true),
        (Figure::SpoolFill, "Spool fill", "%", false),
        (Figure::SpoolAge, "Spool age", "s", false),
        (Figure::SpoolLost, "Samples lost", "", false),
        (Figure::BadTags, "Bad tags", "", false),
        (Figure::Alarms, "Standing alarms", "", false),
    ];

    fn told(self) -> (&'static str, bool) {
        Figure::ALL.iter().find(|f| f.0 == self).map_or(("", false), |f| (f.1, f.3))
    }
}

/// The point of a figure.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FigurePoint {
    pub figure: Figure,
    /// Whose figure; not for those of the whole program.
    #[serde(default)]
    pub connection: Option<Uuid>,
}

impl Plain {
    pub const MEMORY: Plain = Plain(MEMORY);
    pub const PUSH: Plain = Plain(PUSH);
    pub const FIGURES: Plain = Plain(FIGURES);

    fn read(self, point: &Own) -> Result<String, (String, String)> {
        let holds = |holds: Holds| match holds {
            Holds::Number => "number",
            Holds::Switch => "switch",
            Holds::Text => "text",
        };
        match self.0 {
            MEMORY => {
                let point: MemoryPoint = resolve(None, point)?;
                if let Some(initial) = &point.initial {
                    point.holds.take(initial).map_err(|words| ("initial".to_owned(), words.to_owned()))?;
                }
                Ok(format!("{}{}", holds(point.holds), if point.keep { ", kept over a restart" } else { "" }))
            }
            PUSH => resolve(None, point).map(|p: PushPoint| holds(p.holds).to_owned()),
            _ => {
                let point: FigurePoint = resolve(None, point)?;
                let (words, of_connection) = point.figure.told();
                if of_connection != point.connection.is_some() {
                    let words = if of_connection { "Choose the connection." } else { "This figure is of the whole program." };
                    return Err(("connection".into(), words.into()));
                }
                Ok(words.to_lowercase())
            }
        }
    }
}

impl Kind for Plain {
    fn name(&self) -> &'static str {
        self.0
    }

    fn describe(&self) -> Description {
        let holds = vec![Choice::new("number", "a number"), Choice::new("switch", "on or off"), Choice::new("text", "a text")];
        let holds = Field::choice("type", "Holds", holds).width(6);
        let keep = Field::tick("keep", "Keep the value after a restart", false).width(6);
        let interval =
            Field::number("interval_ms", "Expected interval, ms").usual(1000).hint("older values show their age").width(2);
        let in_use = Field::tick("enabled", "In use", true).width(6);
        let of = |title, about, first, fields, point, starts, can| {
            let sections = vec![Section { title: "", folded: false, fields }];
            Description { kind: self.0, title, about, first, sections, point, starts, can }
        };
        let none = Capabilities::default();
        match self.0 {
            MEMORY => of(
                "Memory",
                "Values that people set here, such as a product or a batch size; kept over a restart where that is wished.",
                "Memory",
                vec![in_use],
                vec![holds, keep],
                Start::several(&[
                    ("a number, kept", json!({"type": "number", "keep": true})),
                    ("a switch, kept", json!({"type": "switch", "keep": true})),
                    ("a text, kept", json!({"type": "text", "keep": true})),
                    ("a number, until restart", json!({"type": "number"})),
                ]),
                Capabilities { set_here: true, ..none },
            ),
            PUSH => of(
                "Pushed values",
                "Other programs send values over HTTP, with a token and with their own times.",
                "Pushed values",
                vec![interval, in_use],
                vec![holds],
                Start::several(&[
                    ("a number", json!({"type": "number"})),
                    ("a switch", json!({"type": "switch"})),
                    ("a text", json!({"type": "text"})),
                ]),
                Capabilities { health: true, tokens: true, ..none },
            ),
            _ => of(
                "Figures of Havrel",
                "How Havrel and its connections fare, as tags that can be recorded and alarmed like any other.",
                "Havrel itself",
                vec![in_use],
                Vec::new(),
                Vec::new(),
                Capabilities { browse: true, ..none },
            ),
        }
    }

    fn check(&self, _connection: &Connection) -> Vec<Wrong> {
        Vec::new()
    }

    fn check_point(&self, _connection: &Connection, tag: &Tag) -> Vec<Wrong> {
        if tag.writable && self.0 != MEMORY {
            return vec![("writable".into(), "Only memory tags can be set here.".into())];
        }
        self.read(&tag.point).err().map(|(field, words)| (format!("point.{field}"), words)).into_iter().collect()
    }

    fn show_point(&self, _connection: &Connection, point: &Own) -> Option<String> {
        self.read(point).ok()
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(*self)
    }
}

#[async_trait]
impl Runner for Plain {
    async fn run(&self, mut ports: Ports) {
        loop {
            let plan = ports.plan.borrow_and_update().clone();
            ports.health.send_modify(|h| match plan.connection.enabled {
                true => h.enter(LinkState::Running, None),
                false => h.enter(LinkState::Off, Some(&LinkError::SwitchedOff)),
            });
            loop {
                let command = tokio::select! {
                    biased;
                    changed = ports.plan.changed() => match changed {
                        Ok(()) => break,
                        Err(_) => return,
                    },
                    command = ports.commands.recv() => command,
                };
                const NONE: &str = "There is no device to ask.";
                match command {
                    None => return,
                    Some(Command::Write { tag, value, reply }) => {
                        let point = plan.points.iter().find(|p| p.tag == tag).map(|p| resolve::<MemoryPoint>(None, &p.point));
                        let result = match point {
                            _ if !plan.connection.enabled => Err(LinkError::SwitchedOff),
                            Some(Ok(point)) => point.holds.of(&value).map_err(|words| LinkError::BadRequest(words.into())),
                            _ => Err(LinkError::BadRequest(NONE.into())),
                        };
                        if let Ok(value) = &result {
                            let mut batch = Batch::default();
                            batch.push(tag, now(), Quality::GOOD, 0, value);
                            if ports.batches.send(batch).await.is_err() {
                                return;
                            }
                            ports.health.send_modify(|h| {
                                h.values += 1;
                                h.answered = now();
                            });
                        }
                        // Whoever asked may have gone away meanwhile.
                        drop(reply.send(result));
                    }
                    Some(other) => other.refuse_without_device(NONE),
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::json;

    #[rstest]
    #[case(MEMORY, json!({}), Ok("number"))]
    #[case(MEMORY, json!({"type": "text", "keep": true, "initial": "LV"}), Ok("text, kept over a restart"))]
    #[case(MEMORY, json!({"type": "switch", "initial": "on"}), Err("initial"))]
    #[case(MEMORY, json!({"type": "colour"}), Err("type"))]
    #[case(PUSH, json!({"type": "switch"}), Ok("switch"))]
    #[case(PUSH, json!({"address": "1"}), Err("address"))]
    #[case(FIGURES, json!({"figure": "spool_fill"}), Ok("spool fill"))]
    #[case(FIGURES, json!({"figure": "p95", "connection": Uuid::nil()}), Ok("round trip p95"))]
    #[case(FIGURES, json!({"figure": "p95"}), Err("connection"))]
    #[case(FIGURES, json!({"figure": "spool_age", "connection": Uuid::nil()}), Err("connection"))]
    fn a_point_is_shown_or_its_field_named(#[case] kind: &str, #[case] point: Json, #[case] expected: Result<&str, &str>) {
        let kind = [Plain::MEMORY, Plain::PUSH, Plain::FIGURES].into_iter().find(|k| k.0 == kind).unwrap();
        let read = kind.read(point.as_object().unwrap());
        assert_eq!(read.as_ref().map(String::as_str).map_err(|(field, _)| field.as_str()), expected);
    }

    #[rstest]
    #[case(Holds::Number, json!(1.5), Ok(Value::F64(1.5)))]
    #[case(Holds::Number, json!("1.5"), Err(()))]
    #[case(Holds::Switch, json!(1), Ok(Value::Bool(true)))]
    #[case(Holds::Switch, json!(2), Err(()))]
    #[case(Holds::Text, json!("KX"), Ok(Value::Text("KX".into())))]
    #[case(Holds::Text, json!(null), Err(()))]
    fn takes_only_what_it_holds(#[case] holds: Holds, #[case] json: Json, #[case] expected: Result<Value, ()>) {
        assert_eq!(holds.take(&json).map_err(drop), expected);
    }
}
