//! The functions of formulas, for whoever offers or describes them. What they do is in `compile` and `memory`.

/// A function.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Function {
    pub name: &'static str,
    /// What it takes, as one writes it.
    pub takes: &'static str,
    /// What it gives.
    pub words: &'static str,
    /// What belongs together.
    pub group: &'static str,
    /// A formula with it; `a` stands for a tag with a number, `b` for a switch, `t` for a text.
    pub example: &'static str,
}

const fn function(
    group: &'static str,
    name: &'static str,
    takes: &'static str,
    words: &'static str,
    example: &'static str,
) -> Function {
    Function { name, takes, words, group, example }
}

const TIME: &str = "over time";
const COUNTS: &str = "counters";
const SWITCHES: &str = "switches";
const QUALITY: &str = "quality";
const NUMBERS: &str = "numbers";
const TEXTS: &str = "texts";
const CLOCK: &str = "time of day";

/// Every function.
pub const FUNCTIONS: &[Function] = &[
    function(
        TIME,
        "average",
        "value, span",
        "mean over the span, each value weighted by how long it held",
        r#"average(a, "10min")"#,
    ),
    function(TIME, "minimum", "value, span", "least value within the span", r#"minimum(a, "1h")"#),
    function(TIME, "maximum", "value, span", "greatest value within the span", r#"maximum(a, "1h")"#),
    function(TIME, "deviation", "value, span", "standard deviation over the span, weighted by time", r#"deviation(a, "10min")"#),
    function(TIME, "sum", "value, span", "sum of the values that came within the span", r#"sum(a, "1h")"#),
    function(TIME, "count", "value, span", "how many values came within the span", r#"count(a, "1h")"#),
    function(TIME, "change", "value, span", "the value now less the value a span ago", r#"change(a, "10min")"#),
    function(TIME, "rate", "value, span, per", "the change over the span, for each “per”", r#"rate(a, "10min", "1h")"#),
    function(TIME, "before", "value, span", "the value a span ago", r#"before(a, "1h")"#),
    function(TIME, "smooth", "value, time constant", "the value through a first-order filter", r#"smooth(a, "30s")"#),
    function(
        COUNTS,
        "total",
        "rate, per, reset",
        "integral of a rate; a reset that becomes true sets it to 0",
        r#"total(a, "1h", b)"#,
    ),
    function(COUNTS, "hours", "condition, reset", "hours for which the condition held", "hours(b, hour() == 6)"),
    function(COUNTS, "starts", "condition, reset", "how often the condition became true", "starts(b)"),
    function(SWITCHES, "since", "condition", "seconds since the condition last became true", "since(b)"),
    function(SWITCHES, "lasts", "condition, span", "true once the condition has held for the span", r#"lasts(b, "5s")"#),
    function(
        SWITCHES,
        "stays",
        "condition, span",
        "true while the condition holds and for the span after it",
        r#"stays(b, "5s")"#,
    ),
    function(SWITCHES, "rises", "condition", "true at the moment when the condition becomes true", "rises(b)"),
    function(SWITCHES, "falls", "condition", "true at the moment when the condition becomes false", "falls(b)"),
    function(SWITCHES, "hold", "value, condition", "the value as it was when the condition last became true", "hold(a, b)"),
    function(QUALITY, "good", "value", "whether the value is good, neither uncertain nor bad", "good(a)"),
    function(QUALITY, "or_else", "value, other", "the value, or the other one while the value is bad", "or_else(a, 0)"),
    function(NUMBERS, "to", "value, unit", "the value converted to a unit", r#"to(a, "kPa")"#),
    function(NUMBERS, "abs", "number", "without its sign", "abs(a)"),
    function(NUMBERS, "round", "number, decimals", "rounded, halves away from zero", "round(a, 1)"),
    function(NUMBERS, "floor", "number", "the whole number at or below", "floor(a)"),
    function(NUMBERS, "ceil", "number", "the whole number at or above", "ceil(a)"),
    function(NUMBERS, "min", "numbers", "the least of them", "min(a, 50)"),
    function(NUMBERS, "max", "numbers", "the greatest of them", "max(a, 50)"),
    function(NUMBERS, "clamp", "number, least, greatest", "held within the two", "clamp(a, 0, 100)"),
    function(NUMBERS, "sqrt", "number", "square root", "sqrt(a)"),
    function(NUMBERS, "pow", "number, exponent", "power", "pow(a, 2)"),
    function(NUMBERS, "exp", "number", "e to that power", "exp(a / 100)"),
    function(NUMBERS, "ln", "number", "natural logarithm", "ln(a)"),
    function(NUMBERS, "log10", "number", "decimal logarithm", "log10(a)"),
    function(NUMBERS, "sin", "radians", "sine", "sin(a)"),
    function(NUMBERS, "cos", "radians", "cosine", "cos(a)"),
    function(NUMBERS, "tan", "radians", "tangent", "tan(a)"),
    function(TEXTS, "text", "value, decimals", "the value as a text", "text(a, 1) + \" now\""),
    function(TEXTS, "state", "tag", "the name of the tag's state", "state(a) == \"Running\""),
    function(TEXTS, "number", "text", "the number that a text holds", "number(t)"),
    function(TEXTS, "size", "text", "how many characters it has", "size(t)"),
    function(TEXTS, "contains", "text, part", "whether the part stands in the text", r#"contains(t, "KX")"#),
    function(TEXTS, "startsWith", "text, part", "whether the text begins with the part", r#"startsWith(t, "KX")"#),
    function(TEXTS, "endsWith", "text, part", "whether the text ends with the part", r#"endsWith(t, "84")"#),
    function(TEXTS, "lower", "text", "in small letters", "lower(t)"),
    function(TEXTS, "upper", "text", "in capital letters", "upper(t)"),
    function(CLOCK, "hour", "zone", "hour of the day, 0 to 23; in UTC where no zone is given", r#"hour("Europe/London")"#),
    function(CLOCK, "minute", "zone", "minute of the hour, 0 to 59", "minute()"),
    function(CLOCK, "weekday", "zone", "1 Monday to 7 Sunday", "weekday()"),
    function(CLOCK, "day", "zone", "day of the month, 1 to 31", "day()"),
    function(CLOCK, "month", "zone", "month, 1 to 12", "month()"),
];

/// The function of this name.
pub fn find(name: &str) -> Option<&'static Function> {
    FUNCTIONS.iter().find(|f| f.name == name)
}
