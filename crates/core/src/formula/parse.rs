//! A formula's text taken apart. The crate `cel` knows the grammar; what of it we do not use is refused here, at its place.

use super::Wrong;
use cel::{
    common::ast::{Expr, IdedExpr, LiteralValue, SourceInfo},
    parser::{ParseErrors, Parser},
};
use std::fmt::Write as _;

/// The longest formula.
const MOST_CHARACTERS: usize = 4000;
/// The most different tags that a formula may name.
const MOST_REFERENCES: usize = 64;
/// The most parts (numbers, names, operators, calls) of a formula.
const MOST_PARTS: usize = 600;
/// How deep brackets may nest.
const DEEPEST_BRACKETS: usize = 16;
/// How deep choices and brackets may nest within each other.
const DEEPEST_CHOICES: u16 = 40;
/// How deep an expression may nest; a sum of a hundred values nests as deep as it is long.
const DEEPEST: usize = 200;

/// A part of a formula.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Part {
    /// The character at which it stands; for an operator that of its sign.
    pub at: usize,
    pub is: Is,
}

/// What a part is.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Is {
    Number(f64),
    Switch(bool),
    Text(String),
    /// A tag, by the index of what it is named by.
    Tag(usize),
    /// An operator by the name that the language has for it (`_+_`), or a function; a method has its object as first argument.
    Call(String, Vec<Part>),
    List(Vec<Part>),
}

/// A formula that could be read.
#[derive(Clone, Debug, PartialEq)]
pub struct Parsed {
    pub(super) root: Part,
    /// What tags are named by, each once, in the order in which they appear.
    names: Vec<String>,
    /// Where a tag is named: index of its name, and the characters of the quoted text.
    mentions: Vec<(usize, usize, usize)>,
    pub(super) length: usize,
}

impl Parsed {
    /// Reads a formula.
    ///
    /// # Errors
    /// The first thing that is wrong with it.
    pub fn of(text: &str) -> Result<Parsed, Wrong> {
        let length = bounded(text)?;
        let parser = Parser::new().max_recursion_depth(DEEPEST_CHOICES);
        let (root, source) = parser.parse_with_source_info(text).map_err(|errors| unreadable(text, &errors))?;
        let mut reader = Reader { text, source: &source, parts: 0, names: Vec::new(), mentions: Vec::new() };
        let root = reader.part(&root, 0)?;
        Ok(Parsed { root, names: reader.names, mentions: reader.mentions, length })
    }

    /// How places in the text move where tags are named by texts of other lengths; `length` gives that of one in characters.
    pub fn moved(&self, mut length: impl FnMut(&str) -> Option<usize>) -> Places {
        let mut mentions = self.mentions.clone();
        mentions.sort_by_key(|&(_, at, _)| at);
        let mut places = Vec::with_capacity(mentions.len());
        let (mut old, mut new) = (0, 0);
        for (index, at, to) in mentions {
            let begin = new + (at - old);
            // With its quotation marks.
            let end = begin + length(&self.names[index]).map_or(to - at, |length| length + 2);
            places.push([(at, to), (begin, end)]);
            (old, new) = (to, end);
        }
        Places(places)
    }

    /// What its tag is named by, where it is nothing but a tag.
    pub(super) fn only_named(&self) -> Option<&str> {
        if let Is::Tag(name) = self.root.is { self.names.get(name).map(String::as_str) } else { None }
    }

    /// What stands in `own("…")`, where it is nothing else.
    pub(super) fn only_own(&self) -> Option<&str> {
        match &self.root.is {
            Is::Call(name, inside) if name == "own" => match inside.as_slice() {
                [Part { is: Is::Text(named), .. }] => Some(named),
                _ => None,
            },
            _ => None,
        }
    }

    /// What tags are named by, each once.
    pub(super) fn references(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(String::as_str)
    }

    /// Each place at which a tag is named: its name, and the characters of the quoted text, its quotes among them.
    pub fn mentions(&self) -> impl Iterator<Item = (&str, usize, usize)> {
        self.mentions.iter().map(|&(name, at, to)| (self.names[name].as_str(), at, to))
    }

    /// Each `own("…")`: what stands in it, and the characters of the whole call, in their order.
    ///
    /// # Errors
    /// One that does not hold one text.
    pub(super) fn owned(&self, text: &[char]) -> Result<Vec<(&str, usize, usize)>, Wrong> {
        let mut found = Vec::new();
        let mut open = vec![&self.root];
        while let Some(part) = open.pop() {
            let (Is::Call(_, inside) | Is::List(inside)) = &part.is else { continue };
            open.extend(inside);
            if !matches!(&part.is, Is::Call(name, _) if name == "own") {
                continue;
            }
            let [Part { at, is: Is::Text(named) }] = inside.as_slice() else {
                let words = "own(…) takes the name of one property between quotation marks.";
                return Err(Wrong::new(part.at, part.at + 3, words));
            };
            // The quotation mark that ends it, and the bracket behind that.
            let quote = text.get(*at).copied().unwrap_or('"');
            let mut end = at + 1;
            while text.get(end).is_some_and(|&c| c != quote) {
                end += if text[end] == '\\' { 2 } else { 1 };
            }
            let closed = text.iter().skip(end).position(|&c| c == ')').map_or(text.len(), |after| end + after + 1);
            found.push((named.as_str(), part.at, closed));
        }
        found.sort_unstable_by_key(|&(_, at, _)| at);
        Ok(found)
    }

    /// The text with other names for its tags, where `name` gives one.
    pub(super) fn renamed(&self, text: &str, mut name: impl FnMut(&str) -> Option<String>) -> String {
        let mut places = self.mentions.clone();
        places.sort_by_key(|&(_, at, _)| at);
        let bytes: Vec<usize> = text.char_indices().map(|(byte, _)| byte).chain([text.len()]).collect();
        let mut made = String::with_capacity(text.len());
        let mut byte = 0;
        for (index, at, to) in places {
            let Some(renamed) = name(&self.names[index]) else { continue };
            made.push_str(&text[byte..bytes[at]]);
            let _ = write!(made, "\"{}\"", masked(&renamed));
            byte = bytes[to];
        }
        made.push_str(&text[byte..]);
        made
    }
}

/// How the places of a text lie to those of the same text with other names for its tags.
#[derive(Clone, Debug, Default)]
pub struct Places(Vec<[(usize, usize); 2]>);

impl Places {
    /// Where a character of the one text is in the other. All of a name is where it begins.
    pub fn of(&self, at: usize) -> usize {
        // The last name that begins at or before it.
        match self.0.partition_point(|[(from, _), _]| *from <= at).checked_sub(1).map(|i| self.0[i]) {
            Some([(_, to), (_, moved)]) if at >= to => moved + (at - to),
            Some([_, (moved, _)]) => moved,
            None => at,
        }
    }

    /// Where the n-th name stands in the other text: its first character, and the one behind the last.
    pub fn name(&self, n: usize) -> Option<(usize, usize)> {
        self.0.get(n).map(|[_, moved]| *moved)
    }
}

/// How a name is written between quotation marks. A name holds no control characters, so these two are all to be masked.
pub(super) fn masked(name: &str) -> String {
    name.replace('\\', "\\\\").replace('"', "\\\"")
}

/// The length in characters, of a text that is worth reading.
fn bounded(text: &str) -> Result<usize, Wrong> {
    let length = text.chars().count();
    if text.trim().is_empty() {
        return Err(Wrong::new(0, length, "Enter a formula."));
    }
    if length > MOST_CHARACTERS {
        return Err(Wrong::new(MOST_CHARACTERS, length, format!("A formula has at most {MOST_CHARACTERS} characters.")));
    }
    let mut depth = 0usize;
    for (at, c) in text.chars().enumerate() {
        match c {
            '(' | '[' | '{' => depth += 1,
            ')' | ']' | '}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        if depth > DEEPEST_BRACKETS {
            return Err(Wrong::new(at, at + 1, format!("Brackets nest at most {DEEPEST_BRACKETS} deep.")));
        }
    }
    Ok(length)
}

/// What to say where the grammar does not fit: the parser knows where, and what stands there tells the rest.
fn unreadable(text: &str, errors: &ParseErrors) -> Wrong {
    let place = |(line, column): (isize, isize)| {
        let before: usize = text.split_inclusive('\n').take(line.max(1) as usize - 1).map(|l| l.chars().count()).sum();
        before + column.max(1) as usize - 1
    };
    let length = text.chars().count();
    let at = errors.errors.iter().map(|e| place(e.pos)).min().unwrap_or(0).min(length);
    if errors.errors.iter().any(|e| e.msg.contains("recursion")) {
        return Wrong::new(0, length, "The formula nests too deep.");
    }
    let rest: Vec<char> = text.chars().skip(at).collect();
    let Some(&first) = rest.iter().find(|c| !c.is_whitespace()) else {
        return Wrong::new(length.saturating_sub(1), length, "The formula ends too early: something is missing behind this.");
    };
    let at = at + rest.iter().take_while(|c| c.is_whitespace()).count();
    let word: String = text.chars().skip(at).take_while(|c| c.is_alphanumeric() || *c == '_').take(40).collect();
    let to = at + word.chars().count().max(1);
    let quotes = |c: char| text.chars().filter(|&other| other == c).count() % 2 == 1;
    let words = match first {
        '"' | '\'' if quotes(first) => "This text has no closing quotation mark.".to_owned(),
        '“' | '”' | '„' | '‘' | '’' => "Write texts between straight quotation marks, like \"this\".".to_owned(),
        '=' => "To compare write ==.".to_owned(),
        ',' => "A comma is not expected here. Write decimals with a point.".to_owned(),
        '×' => "Multiply with *.".to_owned(),
        '÷' => "Divide with /.".to_owned(),
        '^' => "For a power write pow(x, 2).".to_owned(),
        '&' => "For “and” write &&.".to_owned(),
        '|' => "For “or” write ||.".to_owned(),
        _ => match word.to_lowercase().as_str() {
            "and" => "For “and” write &&.".to_owned(),
            "or" => "For “or” write ||.".to_owned(),
            "not" => "For “not” write !.".to_owned(),
            "if" | "then" | "else" => "A choice is written: condition ? value : other value.".to_owned(),
            "" => format!("“{first}” is not expected here."),
            _ => format!("“{word}” is not expected here."),
        },
    };
    Wrong::new(at, to, words)
}

/// Turns what the parser gives into what we use.
struct Reader<'a> {
    text: &'a str,
    source: &'a SourceInfo,
    parts: usize,
    names: Vec<String>,
    mentions: Vec<(usize, usize, usize)>,
}

impl Reader<'_> {
    /// The characters of a part: the first one, and the one behind the last. The parser counts bytes, and tells the last one.
    fn place(&self, id: u64) -> (usize, usize) {
        let (first, last) = self.source.offset_for(id).unwrap_or_default();
        let characters = |byte: usize| self.text.char_indices().take_while(|(at, _)| *at < byte).count();
        (characters(first as usize), characters(last as usize + 1))
    }

    /// Where the name of a function begins; the parser tells where its bracket stands.
    fn name_at(&self, id: u64, name: &str) -> usize {
        let (bracket, _) = self.source.offset_for(id).unwrap_or_default();
        let before = self.text.get(..bracket as usize).unwrap_or_default().trim_end();
        let begin = before.strip_suffix(name).map_or(bracket as usize, str::len);
        self.text.char_indices().take_while(|(at, _)| *at < begin).count()
    }

    fn wrong(&self, id: u64, words: impl Into<String>) -> Wrong {
        let (at, to) = self.place(id);
        Wrong::new(at, to.max(at + 1), words)
    }

    fn part(&mut self, expr: &IdedExpr, depth: usize) -> Result<Part, Wrong> {
        self.parts += 1;
        let (at, _) = self.place(expr.id);
        if self.parts > MOST_PARTS {
            return Err(self.wrong(expr.id, format!("A formula has at most {MOST_PARTS} parts; divide it into several tags.")));
        }
        if depth > DEEPEST {
            return Err(self.wrong(expr.id, "The formula nests too deep; divide it into several tags."));
        }
        let is = match &expr.expr {
            Expr::Literal(literal) => self.literal(expr.id, literal)?,
            Expr::List(list) => Is::List(list.elements.iter().map(|e| self.part(e, depth + 1)).collect::<Result<_, _>>()?),
            Expr::Call(call) if call.func_name == "at" && call.target.is_none() => {
                let is = self.tag(expr.id, &call.args)?;
                return Ok(Part { at: self.name_at(expr.id, "at"), is });
            }
            Expr::Call(call) => {
                let target = call.target.as_deref();
                let args = target.into_iter().chain(&call.args).map(|a| self.part(a, depth + 1)).collect::<Result<_, _>>()?;
                let at =
                    if call.func_name.starts_with(char::is_alphabetic) { self.name_at(expr.id, &call.func_name) } else { at };
                return Ok(Part { at, is: Is::Call(call.func_name.clone(), args) });
            }
            Expr::Ident(name) => {
                let words =
                    format!("There is no “{name}” here. Name a tag by at(\"its path\"), and put texts between quotation marks.");
                return Err(self.wrong(expr.id, words));
            }
            Expr::Select(select) => {
                let words = format!("“.{}” has no meaning here. Name a tag by at(\"its path\").", select.field);
                return Err(self.wrong(expr.id, words));
            }
            Expr::Comprehension(_) => return Err(self.wrong(expr.id, "Formulas do not go through lists.")),
            Expr::Map(_) | Expr::Struct(_) => return Err(self.wrong(expr.id, "Formulas have no use for braces.")),
            Expr::Unspecified => return Err(self.wrong(expr.id, "Something is missing here.")),
        };
        Ok(Part { at, is })
    }

    fn literal(&self, id: u64, literal: &LiteralValue) -> Result<Is, Wrong> {
        Ok(match literal {
            LiteralValue::Boolean(v) => Is::Switch(*v.inner()),
            LiteralValue::Double(v) if v.inner().is_finite() => Is::Number(*v.inner()),
            LiteralValue::Int(v) if v.inner().unsigned_abs() <= crate::number::EXACT => Is::Number(*v.inner() as f64),
            LiteralValue::String(v) => Is::Text(v.inner().to_string()),
            LiteralValue::Double(_) | LiteralValue::Int(_) => {
                return Err(self.wrong(id, "This number has more digits than a formula keeps; write it like 1.5e20."));
            }
            LiteralValue::UInt(_) => return Err(self.wrong(id, "Write the number without the letter behind it.")),
            LiteralValue::Null => return Err(self.wrong(id, "“null” has no meaning here.")),
            LiteralValue::Bytes(_) => return Err(self.wrong(id, "Write texts between quotation marks alone, like \"this\".")),
        })
    }

    /// A tag by what it is named by.
    fn tag(&mut self, id: u64, args: &[IdedExpr]) -> Result<Is, Wrong> {
        let [IdedExpr { id: inner, expr: Expr::Literal(LiteralValue::String(name)) }] = args else {
            let begin = self.name_at(id, "at");
            return Err(Wrong::new(begin, begin + 2, "at(…) takes the path of one tag between quotation marks."));
        };
        let name = name.inner().to_string();
        let (at, to) = self.place(*inner);
        let index = self.names.iter().position(|known| *known == name).unwrap_or(self.names.len());
        if index == self.names.len() {
            if index == MOST_REFERENCES {
                let words = format!("A formula names at most {MOST_REFERENCES} tags; divide it into several tags.");
                return Err(Wrong::new(at, to, words));
            }
            self.names.push(name);
        }
        self.mentions.push((index, at, to));
        Ok(Is::Tag(index))
    }
}
