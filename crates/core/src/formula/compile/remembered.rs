//! Functions that remember: each is taken out of the formula, with a key by which its memory is found again.

use super::{
    super::{
        parse::{Is, Part},
        program::{Node, Op, Over, Shape, What},
        units::{self, Measure},
    },
    Compiler, KindOf, MOST_OVERS, Made, node,
};

impl Compiler<'_> {
    /// A function that remembers; none where there is no such function, or its arguments are too many or too few.
    pub(super) fn over(&mut self, part: &Part, name: &str, args: &[Part]) -> Option<Made> {
        let number = |measure| KindOf::of(Shape::Number, measure);
        let (what, nodes, kind, of) = match (name, args) {
            ("average" | "minimum" | "maximum" | "deviation" | "sum" | "count" | "change" | "before", [x, length]) => {
                let (x, of) = self.counted(x);
                let length = self.span(length);
                let measure = of.measure.clone();
                let (what, measure) = match name {
                    "average" => (What::Average(length), measure),
                    "minimum" => (What::Minimum(length), measure),
                    "maximum" => (What::Maximum(length), measure),
                    "deviation" => (What::Deviation(length), measure.difference()),
                    "sum" => (What::Sum(length), measure),
                    "count" => (What::Count(length), Measure::Plain),
                    "before" => (What::Before(length), measure),
                    _ => (What::Change(length), measure.difference()),
                };
                (what, vec![x], number(measure), of)
            }
            ("rate", [x, length, per]) => {
                let ((x, of), length, per) = (self.number(x), self.span(length), self.span(per));
                (What::Rate(length, per), vec![x], number(units::rate(&of.measure, per)), of)
            }
            ("smooth", [x, constant]) => {
                let ((x, of), constant) = (self.number(x), self.span(constant));
                (What::Smooth(constant), vec![x], number(of.measure.clone()), of)
            }
            ("total", [x, rest @ ..]) if rest.len() <= 2 => return Some(self.total(part, x, rest)),
            ("hours" | "starts", [x] | [x, _]) => {
                let mut nodes = vec![self.switch(x)];
                nodes.extend(args.get(1).map(|reset| self.switch(reset)));
                let (what, measure) =
                    if name == "hours" { (What::Hours, Measure::of("h")) } else { (What::Starts, Measure::Plain) };
                (what, nodes, number(measure), KindOf::SWITCH)
            }
            ("since", [x]) => (What::Since, vec![self.switch(x)], number(Measure::of("s")), KindOf::SWITCH),
            ("rises", [x]) => (What::Rises, vec![self.switch(x)], KindOf::SWITCH, KindOf::SWITCH),
            ("falls", [x]) => (What::Falls, vec![self.switch(x)], KindOf::SWITCH, KindOf::SWITCH),
            ("lasts" | "stays", [x, length]) => {
                let (x, length) = (self.switch(x), self.span(length));
                let what = if name == "lasts" { What::Lasts(length) } else { What::Stays(length) };
                (what, vec![x], KindOf::SWITCH, KindOf::SWITCH)
            }
            ("hold", [x, condition]) => {
                let ((x, kind), condition) = (self.part(x), self.switch(condition));
                (What::Hold, vec![x, condition], kind.clone(), kind)
            }
            _ => return None,
        };
        Some((self.remembered(part, what, nodes, of.measure.symbol()), kind))
    }

    /// What a window takes: a number, or a condition that counts as 0 and 1.
    fn counted(&mut self, part: &Part) -> Made {
        let made = self.part(part);
        if made.1.shape == Shape::Text {
            self.tell(part, "This is a text; a number is needed here.");
        }
        made
    }

    fn total(&mut self, part: &Part, x: &Part, rest: &[Part]) -> Made {
        let (x, of_x) = self.number(x);
        let known = units::integral(&of_x.measure);
        let (per, reset) = match rest {
            [Part { is: Is::Text(_), .. }, ..] => (Some(self.span(&rest[0])), rest.get(1)),
            _ => (None, rest.first()),
        };
        if per.is_none() && rest.len() == 2 {
            self.tell(&rest[0], "Give the span that the rate is for, like \"1h\", and then the reset.");
        }
        let measure = match (&known, per) {
            (Some((measure, span)), Some(per)) if *span == per => measure.clone(),
            (Some((measure, _)), None) => measure.clone(),
            _ => Measure::Unknown,
        };
        let per = per.or(known.map(|(_, span)| span)).unwrap_or_else(|| {
            let symbol = of_x.measure.symbol();
            let unit = if symbol.is_empty() { "The rate has no unit".to_owned() } else { format!("“{symbol}” is no rate") };
            self.tell(part, format!("{unit}, so say what it is for: total(…, \"1h\") for an amount each hour."));
            crate::time::SECOND
        });
        let mut nodes = vec![x];
        nodes.extend(reset.map(|reset| self.switch(reset)));
        (self.remembered(part, What::Total(per), nodes, of_x.measure.symbol()), KindOf::of(Shape::Number, measure))
    }

    fn remembered(&mut self, part: &Part, what: What, args: Vec<Node>, unit: &str) -> Node {
        let mut reads = 0;
        // A sum in another unit is another sum.
        let key = format!("{} [{unit}]", self.written(part, &mut reads));
        // The same function of the same values twice is one.
        let known = self.overs.iter().position(|over| over.key == key);
        if known.is_none() && self.overs.len() == MOST_OVERS {
            self.tell(part, format!("A formula has at most {MOST_OVERS} functions over time; divide it into several tags."));
        }
        let index = known.unwrap_or_else(|| {
            self.overs.push(Over { at: part.at as u32, key, what, args, reads });
            self.overs.len() - 1
        });
        node(part, Op::Over(index))
    }

    /// A part in a form that does not depend on how it is set out; marks the inputs in it.
    fn written(&self, part: &Part, reads: &mut u64) -> String {
        let list = |parts: &[Part], reads: &mut u64| parts.iter().map(|p| self.written(p, reads)).collect::<Vec<_>>().join(",");
        match &part.is {
            Is::Number(v) => v.to_string(),
            Is::Switch(v) => v.to_string(),
            Is::Text(v) => format!("{v:?}"),
            Is::Tag(index) => {
                *reads |= 1 << index;
                self.inputs[*index].to_string()
            }
            Is::Call(name, args) => format!("{name}({})", list(args, reads)),
            Is::List(parts) => format!("[{}]", list(parts, reads)),
        }
    }
}
