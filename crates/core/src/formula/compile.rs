//! A formula made ready: functions found, units worked out, what is remembered taken out in the order in which it is needed.

mod remembered;

use super::{
    Formula, Mixed, Places, Wrong,
    functions::find,
    parse::{Is, Part},
    program::{ClockPart, Find, Node, Op, Over, Program, Shape, StateNames},
    spans::span,
    units::{self, Linear, Measure},
};
use crate::time::Nanos;
use jiff::tz::TimeZone;
use uuid::Uuid;

/// What a formula must know of a tag that it names.
#[derive(Clone, Debug, Default)]
pub struct Facts {
    /// Its engineering unit; empty where it has none.
    pub unit: String,
    /// It is known to hold text.
    pub holds_text: bool,
    /// Names for its numbers.
    pub states: Option<StateNames>,
}

/// Most functions over time in one formula.
const MOST_OVERS: usize = 32;

/// Makes a formula ready. `facts` tells of a tag; `unit` is that of the result, empty where it has none. Whatever is told of its
/// text is told by `places`, those of the text that people read.
///
/// # Errors
/// Everything that is wrong with it, in the order of its text.
pub fn compile(
    formula: &Formula,
    facts: &dyn Fn(Uuid) -> Option<Facts>,
    unit: &str,
    places: &Places,
) -> Result<Program, Vec<Wrong>> {
    let parsed = formula.parsed();
    let mut inputs = Vec::new();
    let mut known = Vec::new();
    for name in parsed.references() {
        let id = name.parse::<Uuid>().unwrap_or_default();
        inputs.push(id);
        known.push(facts(id));
    }
    let mut compiler =
        Compiler { mixed: formula.mixed(), inputs: &inputs, facts: &known, overs: Vec::new(), wrong: Vec::new(), clock: false };
    for (name, at, to) in parsed.mentions() {
        let missing = name.parse().ok().and_then(facts).is_none();
        if missing {
            let words = if name.parse::<Uuid>().is_ok() { "This tag does not exist any more." } else { "There is no such tag." };
            compiler.wrong.push(Wrong::new(places.of(at), places.of(to), words));
        }
    }
    let (mut root, kind) = compiler.part(&placed(&parsed.root, places));
    let wanted = Measure::of(unit);
    if kind.shape != Shape::Text {
        match wanted.takes(&kind.measure, compiler.mixed) {
            Ok(None) => {}
            Ok(Some(linear)) => root = converted(root, linear),
            Err(words) => compiler.wrong.push(Wrong::new(
                0,
                places.of(parsed.length),
                format!("The result does not fit the tag's unit: {words}"),
            )),
        }
    }
    let Compiler { overs, mut wrong, clock, .. } = compiler;
    if !wrong.is_empty() {
        wrong.sort_by_key(|w| (w.at, w.to));
        wrong.dedup();
        return Err(wrong);
    }
    // What the tags are measured in decides which conversions there are.
    let mut mark = format!("{}\n{:?}\n{unit}", formula.text(), formula.mixed());
    for facts in known.iter().flatten() {
        mark.push_str(&format!("\n{} {:?}", facts.unit, facts.states));
    }
    let unit = if unit.is_empty() { kind.measure.symbol().to_owned() } else { unit.to_owned() };
    Ok(Program { inputs, root, overs, shape: kind.shape, unit, clock, mark })
}

/// What is known of a node's value before it runs.
#[derive(Clone, Debug)]
struct KindOf {
    shape: Shape,
    measure: Measure,
}

impl KindOf {
    const fn of(shape: Shape, measure: Measure) -> KindOf {
        KindOf { shape, measure }
    }
    const SWITCH: KindOf = KindOf::of(Shape::Switch, Measure::Unknown);
    const TEXT: KindOf = KindOf::of(Shape::Text, Measure::Unknown);
    const NUMBER: KindOf = KindOf::of(Shape::Number, Measure::Unknown);
    const UNKNOWN: KindOf = KindOf::of(Shape::Unknown, Measure::Unknown);
}

struct Compiler<'a> {
    mixed: Mixed,
    inputs: &'a [Uuid],
    facts: &'a [Option<Facts>],
    overs: Vec<Over>,
    wrong: Vec<Wrong>,
    clock: bool,
}

type Made = (Node, KindOf);

/// A part by other places.
fn placed(part: &Part, places: &Places) -> Part {
    let all = |parts: &[Part]| parts.iter().map(|one| placed(one, places)).collect();
    let is = match &part.is {
        Is::Call(name, args) => Is::Call(name.clone(), all(args)),
        Is::List(parts) => Is::List(all(parts)),
        other => other.clone(),
    };
    Part { at: places.of(part.at), is }
}

fn node(part: &Part, does: Op) -> Node {
    Node { at: part.at as u32, does }
}

fn converted(inner: Node, (factor, offset): Linear) -> Node {
    Node { at: inner.at, does: Op::Linear(Box::new(inner), factor, offset) }
}

impl Compiler<'_> {
    fn tell(&mut self, part: &Part, words: impl Into<String>) {
        let to = part.at + if let Is::Call(name, _) = &part.is { sign(name).chars().count() } else { 1 };
        self.wrong.push(Wrong::new(part.at, to, words));
    }

    /// Something wrong was told; what stands in for the node is never run.
    fn stand_in(&self, part: &Part) -> Made {
        (node(part, Op::Number(0.0)), KindOf::UNKNOWN)
    }

    fn part(&mut self, part: &Part) -> Made {
        match &part.is {
            Is::Number(v) => (node(part, Op::Number(*v)), KindOf::of(Shape::Number, Measure::Plain)),
            Is::Switch(v) => (node(part, Op::Switch(*v)), KindOf::SWITCH),
            Is::Text(v) => (node(part, Op::Text(v.as_str().into())), KindOf::TEXT),
            Is::Tag(index) => {
                let facts = self.facts[*index].clone().unwrap_or_default();
                let shape = if facts.holds_text { Shape::Text } else { Shape::Unknown };
                (node(part, Op::Input(*index)), KindOf::of(shape, Measure::of(&facts.unit)))
            }
            Is::List(_) => {
                self.tell(part, "A list stands only behind “in”.");
                self.stand_in(part)
            }
            Is::Call(name, args) => self.call(part, name, args),
        }
    }

    /// A part that must be a number.
    fn number(&mut self, part: &Part) -> Made {
        let made = self.part(part);
        match made.1.shape {
            Shape::Text => self.tell(part, "This is a text; a number is needed here."),
            Shape::Switch => self.tell(part, "This is a condition; a number is needed here. Write: condition ? 1 : 0"),
            Shape::Number | Shape::Unknown => {}
        }
        made
    }

    /// A part that must be a condition.
    fn switch(&mut self, part: &Part) -> Node {
        let (made, kind) = self.part(part);
        match kind.shape {
            Shape::Text => self.tell(part, "This is a text; a condition is needed here, like x > 5."),
            Shape::Number => self.tell(part, "This is a number; a condition is needed here, like x > 5."),
            Shape::Switch | Shape::Unknown => {}
        }
        made
    }

    fn text(&mut self, part: &Part) -> Node {
        let (made, kind) = self.part(part);
        if matches!(kind.shape, Shape::Number | Shape::Switch) {
            self.tell(part, "A text is needed here; text(…) makes one of a number.");
        }
        made
    }

    /// Brings a second value into the unit of the first, and says what both are measured in.
    fn meet(&mut self, part: &Part, a: &KindOf, b: Node, of_b: &KindOf) -> (Node, Measure) {
        let measure = if a.measure == Measure::Plain || a.measure == Measure::Unknown { &of_b.measure } else { &a.measure };
        let measure = match (&a.measure, measure) {
            // A number that nobody knows the unit of may be anything.
            (Measure::Unknown, Measure::Plain) => Measure::Unknown,
            (_, measure) => measure.clone(),
        };
        match a.measure.takes(&of_b.measure, self.mixed) {
            Ok(None) => (b, measure),
            Ok(Some(linear)) => (converted(b, linear), measure),
            Err(words) => {
                self.tell(part, words);
                (b, measure)
            }
        }
    }

    /// Two values that are added, compared, or of which one is chosen.
    fn pair(&mut self, part: &Part, a: &Part, b: &Part, numbers: bool) -> (Node, Node, Shape, Measure) {
        let ((a_node, of_a), (b_node, of_b)) =
            if numbers { (self.number(a), self.number(b)) } else { (self.part(a), self.part(b)) };
        let shape = match (of_a.shape, of_b.shape) {
            (x, y) if x == y => x,
            (Shape::Unknown, x) | (x, Shape::Unknown) => x,
            // Devices tell many switches as 0 and 1.
            (Shape::Number | Shape::Switch, Shape::Number | Shape::Switch) => Shape::Unknown,
            _ => {
                self.tell(part, "A text and a number do not go together here; text(…) makes a text of a number.");
                Shape::Unknown
            }
        };
        let (b_node, measure) = self.meet(part, &of_a, b_node, &of_b);
        (a_node, b_node, shape, measure)
    }

    fn call(&mut self, part: &Part, name: &str, args: &[Part]) -> Made {
        match (name, args) {
            ("_+_", [a, b]) => {
                let (a_node, b_node, shape, measure) = self.pair(part, a, b, false);
                if shape == Shape::Switch {
                    self.tell(part, "Conditions are not added; write: condition ? 1 : 0");
                }
                (node(part, Op::Add(a_node.into(), b_node.into())), KindOf { shape, measure })
            }
            ("_-_", [a, b]) => {
                let (a, b, _, measure) = self.pair(part, a, b, true);
                (node(part, Op::Subtract(a.into(), b.into())), KindOf::of(Shape::Number, measure.difference()))
            }
            ("_%_", [a, b]) => {
                let (a, b, _, measure) = self.pair(part, a, b, true);
                (node(part, Op::Remainder(a.into(), b.into())), KindOf::of(Shape::Number, measure))
            }
            ("_*_", [a, b]) => {
                let ((a, of_a), (b, of_b)) = (self.number(a), self.number(b));
                let measure = units::product(&of_a.measure, &of_b.measure);
                (node(part, Op::Multiply(a.into(), b.into())), KindOf::of(Shape::Number, measure))
            }
            ("_/_", [a, b]) => {
                let ((a, of_a), (b, of_b)) = (self.number(a), self.number(b));
                let (measure, linear) = units::quotient(&of_a.measure, &of_b.measure);
                let b = match linear {
                    Some(_) if self.mixed == Mixed::Refuse => {
                        let words = format!("{} meets {}. Convert it by to(…).", of_b.measure.symbol(), of_a.measure.symbol());
                        self.tell(part, words);
                        b
                    }
                    Some(linear) => converted(b, linear),
                    None => b,
                };
                (node(part, Op::Divide(a.into(), b.into())), KindOf::of(Shape::Number, measure))
            }
            ("-_", [a]) => {
                let (a, kind) = self.number(a);
                (node(part, Op::Negate(a.into())), KindOf { shape: Shape::Number, ..kind })
            }
            ("!_", [a]) => (node(part, Op::Not(self.switch(a).into())), KindOf::SWITCH),
            ("_&&_", [a, b]) => (node(part, Op::And(self.switch(a).into(), self.switch(b).into())), KindOf::SWITCH),
            ("_||_", [a, b]) => (node(part, Op::Or(self.switch(a).into(), self.switch(b).into())), KindOf::SWITCH),
            ("_?_:_", [condition, a, b]) => {
                let condition = self.switch(condition);
                let (a, b, shape, measure) = self.pair(part, a, b, false);
                (node(part, Op::Choose(condition.into(), a.into(), b.into())), KindOf { shape, measure })
            }
            ("@in", [a, list]) => self.among(part, a, list),
            ("_==_" | "_!=_" | "_<_" | "_<=_" | "_>_" | "_>=_", [a, b]) => {
                let (a, b, ..) = self.pair(part, a, b, false);
                let (a, b) = (a.into(), b.into());
                let does = match name {
                    "_==_" => Op::Equal(a, b),
                    "_!=_" => Op::Unequal(a, b),
                    "_<_" => Op::Less(a, b),
                    "_<=_" => Op::AtMost(a, b),
                    "_>_" => Op::Greater(a, b),
                    _ => Op::AtLeast(a, b),
                };
                (node(part, does), KindOf::SWITCH)
            }
            _ => self.function(part, name, args),
        }
    }

    fn among(&mut self, part: &Part, a: &Part, list: &Part) -> Made {
        let Is::List(list) = &list.is else {
            self.tell(part, "Behind “in” stands a list, like [\"LV\", \"MV\"].");
            return self.stand_in(part);
        };
        let (a, of_a) = self.part(a);
        let mut nodes = Vec::new();
        for one in list {
            let (made, kind) = self.part(one);
            nodes.push(self.meet(one, &of_a, made, &kind).0);
        }
        (node(part, Op::Among(a.into(), nodes)), KindOf::SWITCH)
    }

    fn function(&mut self, part: &Part, name: &str, args: &[Part]) -> Made {
        let Some(function) = find(name) else {
            let words = match name {
                "own" => "own(…) has its place in equipment classes; name a tag by at(\"its path\").".to_owned(),
                _ if name.starts_with(|c: char| c.is_alphabetic()) => format!("There is no function “{name}”."),
                _ => format!("“{}” has no meaning in a formula.", sign(name)),
            };
            self.tell(part, words);
            return self.stand_in(part);
        };
        let made = self.known(part, name, args);
        made.unwrap_or_else(|| {
            self.tell(part, format!("{name} takes: {}.", function.takes));
            self.stand_in(part)
        })
    }

    /// A call of a function that there is; none where its arguments are too many or too few.
    fn known(&mut self, part: &Part, name: &str, args: &[Part]) -> Option<Made> {
        let math: Option<fn(f64) -> f64> = match name {
            "sqrt" => Some(f64::sqrt),
            "exp" => Some(f64::exp),
            "ln" => Some(f64::ln),
            "log10" => Some(f64::log10),
            "sin" => Some(f64::sin),
            "cos" => Some(f64::cos),
            "tan" => Some(f64::tan),
            _ => None,
        };
        let steps: Option<fn(f64) -> f64> = match name {
            "abs" => Some(f64::abs),
            "floor" => Some(f64::floor),
            "ceil" => Some(f64::ceil),
            _ => None,
        };
        let find = match name {
            "contains" => Some(Find::Anywhere),
            "startsWith" => Some(Find::AtStart),
            "endsWith" => Some(Find::AtEnd),
            _ => None,
        };
        let clock = match name {
            "hour" => Some(ClockPart::Hour),
            "minute" => Some(ClockPart::Minute),
            "weekday" => Some(ClockPart::Weekday),
            "day" => Some(ClockPart::Day),
            "month" => Some(ClockPart::Month),
            _ => None,
        };
        Some(match (name, args) {
            (_, [a]) if math.is_some() => (node(part, Op::Math(math?, self.number(a).0.into())), KindOf::NUMBER),
            (_, [a]) if steps.is_some() => {
                let (a, kind) = self.number(a);
                (node(part, Op::Math(steps?, a.into())), KindOf { shape: Shape::Number, ..kind })
            }
            ("round", [a]) => {
                let (a, kind) = self.number(a);
                (node(part, Op::Round(a.into(), None)), KindOf { shape: Shape::Number, ..kind })
            }
            ("round", [a, decimals]) => {
                let ((a, kind), decimals) = (self.number(a), self.number(decimals).0);
                (node(part, Op::Round(a.into(), Some(decimals.into()))), KindOf { shape: Shape::Number, ..kind })
            }
            ("pow", [a, b]) => {
                let (a, b) = (self.number(a).0, self.number(b).0);
                (node(part, Op::Power(a.into(), b.into())), KindOf::NUMBER)
            }
            ("min" | "max", [_, ..]) => {
                let (nodes, measure) = self.alike(part, args);
                let does = if name == "min" { Op::Least(nodes) } else { Op::Greatest(nodes) };
                (node(part, does), KindOf::of(Shape::Number, measure))
            }
            ("clamp", [_, _, _]) => {
                let (nodes, measure) = self.alike(part, args);
                let [a, low, high] = <[Node; 3]>::try_from(nodes).ok()?;
                (node(part, Op::Clamp(a.into(), low.into(), high.into())), KindOf::of(Shape::Number, measure))
            }
            ("to", [a, unit]) => self.to(part, a, unit),
            ("good", [a]) => (node(part, Op::Good(self.part(a).0.into())), KindOf::SWITCH),
            ("or_else", [a, b]) => {
                let (a, b, shape, measure) = self.pair(part, a, b, false);
                (node(part, Op::OrElse(a.into(), b.into())), KindOf { shape, measure })
            }
            ("text", [a]) => (node(part, Op::Print(self.part(a).0.into(), None)), KindOf::TEXT),
            ("text", [a, decimals]) => {
                let (a, decimals) = (self.part(a).0, self.number(decimals).0);
                (node(part, Op::Print(a.into(), Some(decimals.into()))), KindOf::TEXT)
            }
            ("number", [a]) => (node(part, Op::ReadNumber(self.text(a).into())), KindOf::NUMBER),
            ("size", [a]) => (node(part, Op::Length(self.text(a).into())), KindOf::NUMBER),
            ("lower", [a]) => (node(part, Op::Lower(self.text(a).into())), KindOf::TEXT),
            ("upper", [a]) => (node(part, Op::Upper(self.text(a).into())), KindOf::TEXT),
            (_, [a, b]) if find.is_some() => {
                let (a, b) = (self.text(a), self.text(b));
                (node(part, Op::Find(find?, a.into(), b.into())), KindOf::SWITCH)
            }
            ("state", [a]) => self.state(part, a),
            (_, [] | [_]) if clock.is_some() => {
                self.clock = true;
                let zone = match args.first() {
                    None => TimeZone::UTC,
                    Some(Part { is: Is::Text(name), .. }) if TimeZone::get(name).is_ok() => TimeZone::get(name).ok()?,
                    Some(other) => {
                        self.tell(other, "Give a time zone by its name, like \"Europe/London\".");
                        TimeZone::UTC
                    }
                };
                (node(part, Op::Clock(clock?, zone)), KindOf::NUMBER)
            }
            _ => return self.over(part, name, args),
        })
    }

    /// Numbers of one unit: that of the first that has one.
    fn alike(&mut self, part: &Part, args: &[Part]) -> (Vec<Node>, Measure) {
        let mut measure = KindOf::of(Shape::Number, Measure::Plain);
        let mut nodes = Vec::new();
        for arg in args {
            let (made, kind) = self.number(arg);
            let (made, met) = self.meet(part, &measure, made, &kind);
            measure.measure = met;
            nodes.push(made);
        }
        (nodes, measure.measure)
    }

    fn to(&mut self, part: &Part, a: &Part, unit: &Part) -> Made {
        let (inner, kind) = self.number(a);
        let Is::Text(wanted) = &unit.is else {
            self.tell(unit, "Give the unit between quotation marks, like \"kPa\".");
            return self.stand_in(part);
        };
        let measure = match kind.measure {
            Measure::In { difference: true, .. } => Measure::of(wanted).difference(),
            _ => Measure::of(wanted),
        };
        match kind.measure {
            Measure::Unknown | Measure::Plain => {
                self.tell(a, "Nobody knows what this is measured in, so it cannot be converted. Multiply by the factor.");
            }
            Measure::In { .. } if crate::unit::find(wanted).is_none() => {
                self.tell(unit, format!("“{wanted}” stands in no list of units."));
            }
            Measure::In { .. } => match measure.takes(&kind.measure, Mixed::Convert) {
                Ok(None) => return (inner, KindOf::of(Shape::Number, measure)),
                Ok(Some(linear)) => return (converted(inner, linear), KindOf::of(Shape::Number, measure)),
                Err(words) => self.tell(part, words),
            },
        }
        self.stand_in(part)
    }

    fn state(&mut self, part: &Part, a: &Part) -> Made {
        let names = match &a.is {
            Is::Tag(index) => self.facts[*index].as_ref().and_then(|f| f.states.clone()),
            _ => None,
        };
        let Some(names) = names else {
            self.tell(a, "state(…) takes a tag that has state names.");
            return self.stand_in(part);
        };
        let inner = self.part(a).0;
        (node(part, Op::State(inner.into(), names)), KindOf::TEXT)
    }

    fn span(&mut self, part: &Part) -> Nanos {
        let read = match &part.is {
            Is::Text(text) => span(text),
            _ => Err("Give a span of time between quotation marks, like \"10min\".".to_owned()),
        };
        read.unwrap_or_else(|words| {
            self.tell(part, words);
            crate::time::SECOND
        })
    }
}

/// An operator as it is written.
fn sign(name: &str) -> &str {
    match name {
        "_?_:_" => "?",
        "@in" => "in",
        _ => name.trim_matches('_'),
    }
}
