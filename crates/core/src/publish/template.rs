//! Topics and payloads with fields of tags in them.
//!
//! ```text
//! text    = { letters | "{" field "}" | "{{" | "}}" }
//! field   = "path" | "name" | number of a part of the path, from 1 | "unit"
//!         | "value" | "text" | "time" | "time_ms" | "quality" | "reason" | "now" | "now_ms"
//! topic   = text with only the fields of the first line
//! payload = lines of text, one for each tag | a JSON value whose texts and names of members are such texts
//! ```
//!
//! In JSON a text that is one field and nothing else becomes the value itself, so a number stays a number. A member whose name holds a
//! field of a tag is written for every tag of the message, and otherwise the element of a list that has one element with such a field.

use crate::{
    engine::Current,
    plant::{PayloadFormat, Plant, Tag},
    quality::Class,
    sample::Value,
    text,
    time::{Nanos, to_text},
};
use serde_json::{Map, Value as Json, json};
use std::collections::HashSet;

/// Longest topic pattern and longest topic, in bytes.
const LONGEST_TOPIC: usize = 1000;
/// Longest payload pattern, in bytes.
const LONGEST_PAYLOAD: usize = 16 << 10;
/// How deep the JSON of a payload may nest.
const DEEPEST: usize = 20;

/// Something that is filled in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Field {
    Path,
    Name,
    Part(usize),
    Unit,
    Value,
    Text,
    Time,
    TimeMs,
    Quality,
    Reason,
    Now,
    NowMs,
}

impl Field {
    fn parse(word: &str) -> Result<Field, String> {
        Ok(match word.trim() {
            "path" => Field::Path,
            "name" => Field::Name,
            "unit" => Field::Unit,
            "value" => Field::Value,
            "text" => Field::Text,
            "time" => Field::Time,
            "time_ms" => Field::TimeMs,
            "quality" => Field::Quality,
            "reason" => Field::Reason,
            "now" => Field::Now,
            "now_ms" => Field::NowMs,
            other => match other.parse::<usize>() {
                Ok(part) if part > 0 => Field::Part(part - 1),
                _ => return Err(format!("There is no field {{{other}}}.")),
            },
        })
    }

    /// It differs from tag to tag.
    fn of_tag(self) -> bool {
        !matches!(self, Field::Now | Field::NowMs)
    }

    /// It stays the same whatever a tag's value is.
    fn lasting(self) -> bool {
        matches!(self, Field::Path | Field::Name | Field::Part(_) | Field::Unit)
    }
}

/// What a tag gives to be filled in.
pub struct Facts<'a> {
    pub plant: &'a Plant,
    pub tag: &'a Tag,
    /// Its path, its own name last.
    pub path: &'a str,
    pub current: &'a Current,
    /// When the message is made.
    pub now: Nanos,
}

impl Facts<'_> {
    fn json(&self, field: Field) -> Json {
        let Current { value, time, quality, .. } = self.current;
        // What is bad is no value; the quality says why.
        let value = value.as_ref().filter(|_| !quality.is_bad());
        match field {
            Field::Path => json!(self.path),
            Field::Name => json!(self.tag.name),
            Field::Part(part) => self.path.split('/').nth(part).map_or(Json::Null, |name| json!(name)),
            Field::Unit => json!(self.tag.unit),
            Field::Value => value.map_or(Json::Null, exact),
            Field::Text => value.map_or(Json::Null, |value| json!(self.plant.print(self.tag, value))),
            Field::Time if *time > 0 => json!(to_text(*time)),
            Field::TimeMs if *time > 0 => json!(time.div_euclid(1_000_000)),
            Field::Time | Field::TimeMs => Json::Null,
            Field::Quality => json!(match quality.class() {
                Class::Good => "good",
                Class::Uncertain => "uncertain",
                Class::Bad => "bad",
            }),
            Field::Reason => json!(quality.reason().words()),
            Field::Now | Field::NowMs => of_now(field, self.now),
        }
    }
}

/// A value as a JSON number, switch or text, with every digit; null for a float that JSON cannot hold.
fn exact(value: &Value) -> Json {
    match value {
        Value::I64(v) => json!(v),
        Value::U64(v) => json!(v),
        Value::F32(v) if !v.is_finite() => Json::Null,
        Value::F64(v) if !v.is_finite() => Json::Null,
        other => other.to_json(),
    }
}

/// The fields that are the same for a whole message.
fn of_now(field: Field, now: Nanos) -> Json {
    match field {
        Field::Now => json!(to_text(now)),
        Field::NowMs => json!(now.div_euclid(1_000_000)),
        _ => Json::Null,
    }
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Letters(String),
    Field(Field),
}

/// A text with fields in it.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Text(Vec<Piece>);

impl Text {
    fn parse(text: &str) -> Result<Text, String> {
        let (mut pieces, mut letters, mut rest) = (Vec::new(), String::new(), text);
        while let Some(at) = rest.find(['{', '}']) {
            letters.push_str(&rest[..at]);
            let brace = &rest[at..at + 1];
            rest = &rest[at + 1..];
            if let Some(after) = rest.strip_prefix(brace) {
                letters.push_str(brace);
                rest = after;
                continue;
            }
            let Some((word, after)) = rest.split_once('}').filter(|_| brace == "{") else {
                return Err("A brace is not closed, or not opened. Write {{ or }} for a brace itself.".into());
            };
            if !letters.is_empty() {
                pieces.push(Piece::Letters(std::mem::take(&mut letters)));
            }
            pieces.push(Piece::Field(Field::parse(word)?));
            rest = after;
        }
        letters.push_str(rest);
        if !letters.is_empty() {
            pieces.push(Piece::Letters(letters));
        }
        Ok(Text(pieces))
    }

    fn fields(&self) -> impl Iterator<Item = Field> {
        self.0.iter().filter_map(|piece| if let Piece::Field(field) = piece { Some(*field) } else { None })
    }

    fn of_tag(&self) -> bool {
        self.fields().any(Field::of_tag)
    }

    /// The field that it is, where it is nothing else.
    fn only(&self) -> Option<Field> {
        if let [Piece::Field(field)] = self.0[..] { Some(field) } else { None }
    }

    fn fill(&self, of: impl Fn(Field) -> Json) -> String {
        let mut filled = String::new();
        for piece in &self.0 {
            match piece {
                Piece::Letters(letters) => filled.push_str(letters),
                Piece::Field(field) => match of(*field) {
                    Json::Null => {}
                    Json::String(text) => filled.push_str(&text),
                    other => filled.push_str(&other.to_string()),
                },
            }
        }
        filled
    }
}

/// Whether messages can be published on a topic (MQTT 5.0, 4.7.1 and 4.7.3).
///
/// # Errors
/// What is wrong, as a sentence.
pub fn check_topic(topic: &str) -> Result<(), String> {
    if topic.trim().is_empty() {
        return Err("Enter a topic.".into());
    }
    if topic.len() > LONGEST_TOPIC {
        return Err("A topic has at most 1,000 bytes.".into());
    }
    if topic.contains(['+', '#']) || topic.chars().any(text::is_control) {
        return Err("A topic to publish on must not contain +, # or control characters.".into());
    }
    Ok(())
}

/// The pattern of a topic: `works/{path}`, `meters/{2}/{name}`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Topic {
    text: Text,
    plain: bool,
}

impl Topic {
    /// Reads a pattern; `plain`: names are filled in in small letters, digits and “-” only.
    ///
    /// # Errors
    /// What is wrong, as a sentence.
    pub fn parse(pattern: &str, plain: bool) -> Result<Topic, String> {
        let pattern = pattern.trim();
        if pattern.is_empty() {
            return Err("Enter a topic; {path} stands for the path of a tag.".into());
        }
        check_topic(pattern)?;
        let text = Text::parse(pattern)?;
        if text.fields().all(Field::lasting) {
            Ok(Topic { text, plain })
        } else {
            Err("A topic is made of {path}, {name}, {unit} and parts of the path such as {1}.".into())
        }
    }

    /// The topic of a tag.
    ///
    /// # Errors
    /// A sentence where there is none.
    pub fn of(&self, path: &str, tag: &Tag) -> Result<String, String> {
        let parts: Vec<&str> = path.split('/').collect();
        if let Some(Field::Part(part)) = self.text.fields().find(|f| matches!(f, Field::Part(part) if *part >= parts.len())) {
            return Err(format!("“{path}” has no part {}.", part + 1));
        }
        let spelled = |name: &str| if self.plain { plain(name) } else { name.replace(['+', '#'], "_") };
        let topic = self.text.fill(|field| {
            json!(match field {
                Field::Path => parts.iter().map(|part| spelled(part)).collect::<Vec<_>>().join("/"),
                Field::Part(part) => spelled(parts[part]),
                Field::Unit => spelled(&tag.unit.replace('/', "-")),
                _ => spelled(&tag.name),
            })
        });
        match topic.len() {
            0 => Err(format!("The topic of “{path}” is empty.")),
            1..=LONGEST_TOPIC => Ok(topic),
            _ => Err(format!("The topic of “{path}” has more than 1,000 bytes.")),
        }
    }
}

/// A name in small letters, digits and single “-”.
fn plain(name: &str) -> String {
    let mut written = String::new();
    for c in name.chars().flat_map(char::to_lowercase) {
        if c.is_alphanumeric() {
            written.push(c);
        } else if !written.is_empty() && !written.ends_with('-') {
            written.push('-');
        }
    }
    let kept = written.trim_end_matches('-').len();
    written.truncate(kept);
    written
}

/// A part of a payload in JSON.
#[derive(Clone, Debug, PartialEq)]
enum Node {
    Fixed(Json),
    Text(Text),
    List(Vec<Node>),
    /// A list with this for every tag.
    EachElement(Box<Node>),
    Members(Vec<(Text, Node)>),
}

impl Node {
    fn parse(json: Json, depth: usize) -> Result<Node, String> {
        if depth > DEEPEST {
            return Err("The payload nests more than 20 levels.".into());
        }
        Ok(match json {
            Json::String(text) => Node::Text(Text::parse(&text)?),
            Json::Array(all) => {
                let mut nodes: Vec<Node> = all.into_iter().map(|one| Node::parse(one, depth + 1)).collect::<Result<_, _>>()?;
                match nodes.pop() {
                    Some(only) if nodes.is_empty() && only.single() => Node::EachElement(Box::new(only)),
                    last => Node::List(nodes.into_iter().chain(last).collect()),
                }
            }
            Json::Object(members) => {
                let member = |(name, value): (String, Json)| {
                    let name = Text::parse(&name)?;
                    if name.fields().all(Field::lasting) {
                        Ok((name, Node::parse(value, depth + 1)?))
                    } else {
                        Err("The name of a member is made of {path}, {name}, {unit} and parts such as {1}.".to_owned())
                    }
                };
                Node::Members(members.into_iter().map(member).collect::<Result<_, String>>()?)
            }
            fixed => Node::Fixed(fixed),
        })
    }

    /// It can be written for one tag only.
    fn single(&self) -> bool {
        match self {
            Node::Fixed(_) | Node::EachElement(_) => false,
            Node::Text(text) => text.of_tag(),
            Node::List(all) => all.iter().any(Node::single),
            Node::Members(all) => all.iter().any(|(name, node)| !name.of_tag() && node.single()),
        }
    }

    fn keys<'a>(&'a self, found: &mut Vec<&'a Text>) {
        match self {
            Node::Fixed(_) | Node::Text(_) => {}
            Node::EachElement(node) => node.keys(found),
            Node::List(all) => all.iter().for_each(|node| node.keys(found)),
            Node::Members(all) => {
                for (name, node) in all {
                    if name.of_tag() {
                        found.push(name);
                    }
                    node.keys(found);
                }
            }
        }
    }

    fn fill(&self, tags: &[Facts<'_>], now: Nanos) -> Json {
        let field = |field: Field| match tags.first() {
            Some(tag) if field.of_tag() => tag.json(field),
            _ => of_now(field, now),
        };
        match self {
            Node::Fixed(json) => json.clone(),
            Node::Text(text) => text.only().map_or_else(|| json!(text.fill(field)), field),
            Node::List(all) => all.iter().map(|node| node.fill(tags, now)).collect(),
            Node::EachElement(node) => tags.iter().map(|tag| node.fill(std::slice::from_ref(tag), now)).collect(),
            Node::Members(all) => {
                let mut object = Map::new();
                for (name, node) in all {
                    if name.of_tag() {
                        for tag in tags {
                            object.insert(name.fill(|field| tag.json(field)), node.fill(std::slice::from_ref(tag), now));
                        }
                    } else {
                        object.insert(name.fill(field), node.fill(tags, now));
                    }
                }
                Json::Object(object)
            }
        }
    }
}

/// The pattern of a payload.
#[derive(Clone, Debug, PartialEq)]
pub struct Payload(Form);

#[derive(Clone, Debug, PartialEq)]
enum Form {
    Json(Node),
    /// A line for each tag.
    Text(Text),
}

impl Payload {
    /// Reads a pattern.
    ///
    /// # Errors
    /// What is wrong, as a sentence.
    pub fn parse(format: PayloadFormat, pattern: &str) -> Result<Payload, String> {
        if pattern.trim().is_empty() {
            return Err("Enter what a message holds; {value} stands for the value of a tag.".into());
        }
        if pattern.len() > LONGEST_PAYLOAD {
            return Err("A payload is described in at most 16 KiB.".into());
        }
        let payload = match format {
            PayloadFormat::Text => Form::Text(Text::parse(pattern)?),
            PayloadFormat::Json => {
                let json = serde_json::from_str(pattern).map_err(|error| {
                    format!(
                        "This is no JSON: line {}, character {}. Write fields as texts: \"{{value}}\".",
                        error.line(),
                        error.column()
                    )
                })?;
                Form::Json(Node::parse(json, 0)?)
            }
        };
        Ok(Payload(payload))
    }

    /// Why these tags cannot share a message, as a sentence.
    pub fn shared<'a>(&self, topic: &str, tags: impl ExactSizeIterator<Item = (&'a str, &'a Tag)> + Clone) -> Option<String> {
        let Form::Json(node) = &self.0 else { return None };
        let count = tags.len();
        if count > 1 && node.single() {
            return Some(format!(
                "{count} tags share the topic {topic}, and the payload holds one. Put {{path}} into the topic, or the part of the \
                 payload that belongs to a tag into a list: [ … ]."
            ));
        }
        let mut keys = Vec::new();
        node.keys(&mut keys);
        keys.into_iter().find_map(|key| {
            let mut names = HashSet::new();
            let name = |(path, tag): (&str, &Tag)| {
                key.fill(|field| match field {
                    Field::Path => json!(path),
                    Field::Part(part) => path.split('/').nth(part).map_or(Json::Null, |name| json!(name)),
                    Field::Unit => json!(tag.unit),
                    _ => json!(tag.name),
                })
            };
            let twice = tags.clone().map(name).find(|name| !names.insert(name.clone()))?;
            Some(format!("Two tags of the topic {topic} give a member “{twice}”. Name the members by {{path}}."))
        })
    }

    /// The payload for these tags; `None` where it would be empty.
    pub fn fill(&self, tags: &[Facts<'_>], now: Nanos) -> Option<Vec<u8>> {
        let filled = match &self.0 {
            Form::Json(node) => node.fill(tags, now).to_string(),
            Form::Text(text) => {
                let lines = tags.iter().map(|tag| text.fill(|field| tag.json(field))).filter(|line| !line.trim().is_empty());
                lines.collect::<Vec<_>>().join("\n")
            }
        };
        (!filled.is_empty()).then(|| filled.into_bytes())
    }
}
