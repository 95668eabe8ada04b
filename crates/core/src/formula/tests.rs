//! Formulas as people write them.

mod over_time;

use super::*;
use crate::{
    quality::{Quality, Reason},
    sample::Value,
    time::{Nanos, SECOND},
};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::json;

/// Tags by one letter: `a` a pressure in bar, `k` a mass in kg, `t` a mass in t, `b` a switch, `s` a text, `m` a motor with state
/// names, `f` a flow in m³/h, `x` without a unit.
const LETTERS: &str = "aktbsmfx";

fn id(letter: char) -> Uuid {
    Uuid::from_u128(letter as u128)
}

fn facts(tag: Uuid) -> Option<Facts> {
    let letter = LETTERS.chars().find(|c| id(*c) == tag)?;
    let unit = match letter {
        'a' => "bar",
        'k' => "kg",
        't' => "t",
        'f' => "m³/h",
        _ => "",
    };
    let states = (letter == 'm').then(|| [(0, "Stopped".into()), (1, "Running".into())].into());
    Some(Facts { unit: unit.into(), holds_text: letter == 's', states })
}

/// Names tags by their letter: `<a>` stands for the tag a.
fn written(text: &str) -> String {
    LETTERS.chars().fold(text.to_owned(), |text, c| text.replace(&format!("<{c}>"), &format!("at(\"{}\")", id(c))))
}

fn formula(text: &str, mixed: &str) -> Result<Formula, String> {
    serde_json::from_value(json!({"text": written(text), "mixed": mixed})).map_err(|e| e.to_string())
}

pub(super) fn program(text: &str, unit: &str) -> Result<Arc<Program>, Vec<Wrong>> {
    compile(&formula(text, "convert").unwrap(), &facts, unit, &Places::default()).map(Arc::new)
}

fn value(letter: char) -> (Value, Quality) {
    let value = match letter {
        'a' => Value::F32(2.1),
        'k' => Value::F64(500.0),
        't' => Value::F64(1.5),
        'b' => Value::Bool(true),
        's' => Value::Text("KX-2611-0184".into()),
        'm' => Value::I64(1),
        'f' => Value::F64(36.0),
        _ => Value::F64(0.0),
    };
    (value, Quality::GOOD)
}

fn run_with(text: &str, unit: &str, of: impl Fn(char) -> (Value, Quality)) -> Result<(Val, Option<Doubt>), Cause> {
    let program = program(text, unit).unwrap_or_else(|wrong| panic!("{text}: {wrong:?}"));
    let letter = |tag: Uuid| LETTERS.chars().find(|c| id(*c) == tag).unwrap();
    let values: Vec<_> = program.inputs.iter().map(|tag| of(letter(*tag))).collect();
    let at = 1_764_460_800 * SECOND;
    Running::new(program).evaluate(at, u64::MAX, &|i| Reading { value: Some(&values[i].0), quality: values[i].1 }).value
}

fn run(text: &str) -> Val {
    run_with(text, "", value).unwrap_or_else(|cause| panic!("{text}: {cause:?}")).0
}

#[rstest]
#[case("1 + 2 * 3", 7.0)]
#[case("(1 + 2) * 3", 9.0)]
#[case("-<k> + 1", -499.0)]
#[case("7 % 4", 3.0)]
#[case("1 / 4", 0.25)]
#[case("<a> * 10", 21.0)]
#[case("<k> > 400 ? 1 : 2", 1.0)]
#[case("<b> ? <k> : <x>", 500.0)]
#[case("min(<k>, 3, 7)", 3.0)]
#[case("max(<k>, 3, 7)", 500.0)]
#[case("clamp(<k>, 0, 100)", 100.0)]
#[case("round(2.345, 2)", 2.35)]
#[case("round(-2.5)", -3.0)]
#[case("floor(-2.5) + ceil(2.1)", 0.0)]
#[case("abs(0 - 3)", 3.0)]
#[case("sqrt(16) + pow(2, 3)", 12.0)]
#[case("log10(1000) + ln(exp(2))", 5.0)]
#[case("number(\"12.5\") + size(<s>)", 24.5)]
#[case("hour() * 100 + minute()", 0.0)]
#[case("hour(\"Asia/Tokyo\")", 9.0)]
#[case("weekday() * 10000 + month() * 100 + day()", 71130.0)]
fn numbers_come_out(#[case] text: &str, #[case] wanted: f64) {
    assert_eq!(run(text), Val::Number(wanted));
}

#[rstest]
#[case("1 < 2 && !(2 <= 1)", true)]
#[case("<b> == true", true)]
#[case("<b> == 1", true)]
#[case("<x> || <b>", true)]
#[case("<s> == \"KX-2611-0184\"", true)]
#[case("<s>.startsWith(\"KX\") && contains(<s>, \"2611\") && <s>.endsWith(\"84\")", true)]
#[case("state(<m>) == \"Running\"", true)]
#[case("state(<m>) in [\"Stopped\", \"Tripped\"]", false)]
#[case("<k> in [1, 500]", true)]
#[case("<s> != lower(<s>)", true)]
#[case("good(<k>) && !good(1 / <x>)", true)]
fn conditions_come_out(#[case] text: &str, #[case] wanted: bool) {
    assert_eq!(run(text), Val::Switch(wanted));
}

#[rstest]
#[case("\"Run \" + <s>", "Run KX-2611-0184")]
#[case("text(<a>, 2) + \" bar\"", "2.10 bar")]
#[case("text(<k>) + text(<b>)", "500on")]
#[case("state(<m>)", "Running")]
#[case("upper(\"a\") + lower('B')", "Ab")]
fn texts_come_out(#[case] text: &str, #[case] wanted: &str) {
    assert_eq!(run(text), Val::Text(wanted.into()));
}

#[rstest]
#[case("<k> + <t>", "", 2000.0, "kg")]
#[case("<t> + <k>", "", 2.0, "t")]
#[case("<k> + <t>", "t", 2.0, "t")]
#[case("<k> + 5", "", 505.0, "kg")]
#[case("<t> > <k> ? 1 : 0", "", 1.0, "")]
#[case("<k> / <t>", "", 1.0 / 3.0, "")]
#[case("max(<k>, <t>)", "", 1500.0, "kg")]
#[case("<b> ? <t> : <k>", "kg", 1500.0, "kg")]
#[case("or_else(<t>, <k>)", "", 1.5, "t")]
#[case("to(<a>, \"kPa\")", "", 210.0, "kPa")]
#[case("<a> - to(<a>, \"psi\")", "", 0.0, "bar")]
#[case("<x> + <k>", "", 500.0, "kg")]
#[case("<k> * 2", "t", 1.0, "t")]
fn units_are_brought_together(#[case] text: &str, #[case] unit: &str, #[case] wanted: f64, #[case] result: &str) {
    let (found, _) = run_with(text, unit, value).unwrap();
    let Val::Number(found) = found else { panic!("{found:?}") };
    assert!((found - wanted).abs() < 1e-9, "{text}: {found}");
    assert_eq!(program(text, unit).unwrap().unit, result);
}

#[rstest]
#[case("", 0, "Enter a formula.")]
#[case("1 +", 2, "The formula ends too early: something is missing behind this.")]
#[case("(1", 1, "The formula ends too early: something is missing behind this.")]
#[case("1 + ) 2", 4, "“)” is not expected here.")]
#[case("x = 3", 2, "To compare write ==.")]
#[case("1 and 2", 2, "For “and” write &&.")]
#[case("1,5", 1, "A comma is not expected here. Write decimals with a point.")]
#[case("\"abc", 0, "This text has no closing quotation mark.")]
#[case("1 + Level", 4, "There is no “Level” here. Name a tag by at(\"its path\"), and put texts between quotation marks.")]
#[case("[1, 2].exists(x, x > 1)", 13, "Formulas do not go through lists.")]
#[case("5u", 0, "Write the number without the letter behind it.")]
#[case("9007199254740993", 0, "This number has more digits than a formula keeps; write it like 1.5e20.")]
#[case("at(1)", 0, "at(…) takes the path of one tag between quotation marks.")]
fn what_cannot_be_read_is_told_at_its_place(#[case] text: &str, #[case] at: usize, #[case] words: &str) {
    let wrong = Parsed::of(text).unwrap_err();
    assert_eq!((wrong.at, wrong.words.as_str()), (at, words));
}

#[rstest]
#[case("foo(1)", "", "There is no function “foo”.")]
#[case("own(\"level\")", "", "own(…) has its place in equipment classes; name a tag by at(\"its path\").")]
#[case("average(<k>)", "", "average takes: value, span.")]
#[case("average(<k>, 10)", "", "Give a span of time between quotation marks, like \"10min\".")]
#[case("average(<k>, \"10m\")", "", "“10m” is not a span of time; write it like \"10min\", \"30s\", \"1h30min\" or \"7d\".")]
#[case("average(<k>, \"2000d\")", "", "“2000d” is too long; a span has at most 366 d.")]
#[case("<k> + <a>", "", "bar and kg do not measure the same.")]
#[case("<k>", "bar", "The result does not fit the tag's unit: kg and bar do not measure the same.")]
#[case("<s> + 1", "", "A text and a number do not go together here; text(…) makes a text of a number.")]
#[case("<s> * 2", "", "This is a text; a number is needed here.")]
#[case("5 && true", "", "This is a number; a condition is needed here, like x > 5.")]
#[case("(1 < 2) + (2 < 3)", "", "Conditions are not added; write: condition ? 1 : 0")]
#[case("state(<k>)", "", "state(…) takes a tag that has state names.")]
#[case("total(<k>)", "", "“kg” is no rate, so say what it is for: total(…, \"1h\") for an amount each hour.")]
#[case("to(<x>, \"kg\")", "", "Nobody knows what this is measured in, so it cannot be converted. Multiply by the factor.")]
#[case("to(<k>, \"stone\")", "", "“stone” stands in no list of units.")]
#[case("hour(\"Mars\")", "", "Give a time zone by its name, like \"Europe/London\".")]
#[case("1 in 2", "", "Behind “in” stands a list, like [\"LV\", \"MV\"].")]
fn what_makes_no_sense_is_told_in_words(#[case] text: &str, #[case] unit: &str, #[case] words: &str) {
    let wrong = program(text, unit).unwrap_err();
    assert_eq!(wrong[0].words, words, "{wrong:?}");
}

#[test]
fn where_it_is_wrong_is_told_in_characters() {
    let at = |text: &str| program(text, "").unwrap_err().iter().map(|w| (w.at, w.to)).collect::<Vec<_>>();
    assert_eq!(at("\"é\" + text(1) + foo(\"é\")"), [(16, 19)]);
    assert_eq!(at("1 + foo (2) + bar(3)"), [(4, 7), (14, 17)]);
    assert_eq!(at("average(1,\n  10)"), [(13, 14)]);
    let gone = format!("1 + at(\"{}\")", Uuid::from_u128(77));
    assert_eq!(compile(&formula(&gone, "convert").unwrap(), &facts, "", &Places::default()).unwrap_err()[0].at, 7);
}

#[test]
fn a_mix_of_units_is_refused_where_that_is_chosen() {
    let refused = |text: &str| {
        compile(&formula(text, "refuse").unwrap(), &facts, "", &Places::default()).map_err(|w| w[0].words.clone()).err()
    };
    assert_eq!(refused("<k> + <t>").as_deref(), Some("t meets kg. Convert it by to(…, \"kg\"), or let the formula convert."));
    assert_eq!(refused("<k> + to(<t>, \"kg\")"), None);
    assert_eq!(refused("<k> / <t>").as_deref(), Some("t meets kg. Convert it by to(…)."));
    assert_eq!(refused("<k> + 5"), None);
}

#[rstest]
#[case("<k> / <x>", Fault::DivisionByZero)]
#[case("<k> % <x>", Fault::DivisionByZero)]
#[case("sqrt(<x> - 1)", Fault::NotFinite)]
#[case("exp(<k> * 10)", Fault::NotFinite)]
#[case("<x> + <b>", Fault::NotNumber)]
#[case("<k> ? 1 : 2", Fault::NotSwitch)]
#[case("number(<s>)", Fault::NoNumberInText)]
#[case("<x> == <s>", Fault::Different)]
fn what_goes_wrong_while_it_runs_has_a_cause(#[case] text: &str, #[case] fault: Fault) {
    let cause = run_with(text, "", value).unwrap_err();
    assert_eq!(cause.fault, fault);
    assert_eq!(cause.quality(), Quality::of(Reason::NoResult));
    assert!(cause.words(|_| None).starts_with("its formula, character "));
}

/// The mass k is bad, and the mass t uncertain.
fn poor(letter: char) -> (Value, Quality) {
    let (value, good) = value(letter);
    match letter {
        'k' => (value, Quality::of(Reason::NoAnswer)),
        't' => (value, Quality::of(Reason::Clamped)),
        _ => (value, good),
    }
}

#[rstest]
#[case("<k> + 1", Err(Reason::BadInput))]
#[case("<t> + 1", Ok(Some(Doubt::Input)))]
#[case("<f> + 1", Ok(None))]
#[case("or_else(<k>, 0)", Ok(None))]
#[case("or_else(<k>, <t>)", Ok(Some(Doubt::Input)))]
#[case("or_else(<t>, 0)", Ok(Some(Doubt::Input)))]
#[case("or_else(<k> + <t>, 0)", Ok(None))]
#[case("good(<k>) ? <k> : 0", Ok(None))]
#[case("good(<t>)", Ok(None))]
#[case("<b> ? 1 : <k>", Ok(None))]
#[case("<b> || <k> > 1", Ok(None))]
#[case("<k> > 1 || <b>", Ok(None))]
#[case("<k> > 1 && <b>", Err(Reason::BadInput))]
#[case("<t> > 1 || <b>", Ok(Some(Doubt::Input)))]
fn quality_travels(#[case] text: &str, #[case] wanted: Result<Option<Doubt>, Reason>) {
    let found = run_with(text, "", poor).map(|(_, doubt)| doubt).map_err(|cause| cause.quality().reason());
    assert_eq!(found, wanted);
}

#[test]
fn a_bad_input_is_named() {
    let cause = run_with("1 + <k>", "", poor).unwrap_err();
    let words = cause.words(|tag| (tag == id('k')).then(|| "Packing/Silo 1/Mass".to_owned()));
    assert_eq!(words, "an input is bad: Packing/Silo 1/Mass, no answer from the device");
    assert_eq!(cause.words(|_| None), "an input is bad: no answer from the device");
}

#[test]
fn more_digits_than_a_formula_keeps_are_told() {
    let large = |_| (Value::U64(9_007_199_254_740_993), Quality::GOOD);
    assert_eq!(run_with("<x>", "", large), Ok((Val::Number(9_007_199_254_740_992.0), Some(Doubt::Digits))));
    assert_eq!(Doubt::Digits.quality(), Quality::of(Reason::InputDigits));
}

#[test]
fn every_function_of_the_list_can_be_used() {
    for function in functions::FUNCTIONS {
        let text = function.example;
        // The letters that examples use, as calls of their tags.
        let names = [("a", if function.name == "state" { "<m>" } else { "<a>" }), ("b", "<b>"), ("t", "<s>")];
        let mut made = String::new();
        let words: Vec<&str> = text.split_inclusive(|c: char| !c.is_alphanumeric()).collect();
        let mut quoted = false;
        for word in words {
            let name = word.trim_end_matches(|c: char| !c.is_alphanumeric());
            let rest = &word[name.len()..];
            let tag = names.iter().find(|(letter, _)| *letter == name && !quoted && !rest.starts_with('('));
            made.push_str(tag.map_or(name, |(_, tag)| tag));
            made.push_str(rest);
            quoted ^= rest.contains('"');
        }
        let found = program(&made, "");
        assert!(found.is_ok(), "{}: {made}: {found:?}", function.name);
        assert!(function.example.contains(function.name) && !function.takes.is_empty() && !function.words.is_empty());
    }
}

#[test]
fn tags_are_stored_by_identity_and_shown_by_path() {
    let path = "Extraction/EX-1/\"Level\"";
    let typed = r#"at("Extraction/EX-1/\"Level\"") * 2 + at( 'x' ) + at("Extraction/EX-1/\"Level\"")"#;
    let find = |named: &str| (named == path).then(|| id('a')).or((named == "x").then(|| id('x')));
    let stored = Formula::named(typed, find).unwrap();
    let (a, x) = (id('a'), id('x'));
    assert_eq!(stored, format!("at(\"{a}\") * 2 + at( \"{x}\" ) + at(\"{a}\")"));
    let shown = Formula::shown(&stored, |tag| (tag == a).then(|| path.to_owned()));
    assert_eq!(shown, format!(r#"at("Extraction/EX-1/\"Level\"") * 2 + at( "{x}" ) + at("Extraction/EX-1/\"Level\"")"#));
    assert_eq!(Formula::named(&shown, find).unwrap(), stored);
    let wrong = Formula::named("1 + at(\"Ex\")", find).unwrap_err();
    assert_eq!((wrong.at, wrong.to, wrong.words.as_str()), (7, 11, "There is no tag “Ex”."));
}

#[rstest]
#[case::brackets("(".repeat(2000) + "1" + &")".repeat(2000))]
#[case::lists("[".repeat(15) + &"]".repeat(15))]
#[case::choices("1<2?".repeat(900) + "1" + &":1".repeat(900))]
#[case::signs("!".repeat(3999) + "1")]
#[case::a_long_sum("1".to_owned() + &"+1".repeat(1900))]
#[case::a_long_text(format!("\"{}\"", "x".repeat(3999)))]
#[case::calls("abs(".repeat(15) + "1" + &")".repeat(15))]
#[case::every_way_to_quote(r#"at(r"a") + at('''b''') + at("""c""") + at(R'd')"#.to_owned())]
fn what_grows_is_bounded(#[case] text: String) {
    // Read or refused, but neither hung nor run out of stack.
    if let Ok(parsed) = formula(&text, "convert") {
        let _ = compile(&parsed, &facts, "", &Places::default());
    }
}

#[test]
fn a_sum_of_sixty_tags_is_possible() {
    let sum = (0..60).map(|n| format!("at(\"{}\")", Uuid::from_u128(1000 + n))).collect::<Vec<_>>().join(" + ");
    let parsed = formula(&sum, "convert").unwrap();
    let program = compile(&parsed, &|_| Some(Facts::default()), "", &Places::default()).unwrap();
    assert_eq!(program.inputs.len(), 60);
    let many = (0..65).map(|n| format!("at(\"{}\")", Uuid::from_u128(1000 + n))).collect::<Vec<_>>().join(" + ");
    assert!(formula(&many, "convert").unwrap_err().contains("names at most 64 tags"));
}

/// Pieces of formulas, so that many of them can be read.
fn pieces() -> impl Strategy<Value = String> {
    let piece = prop::sample::select(vec![
        "1",
        "2.5",
        "<a>",
        "<k>",
        "<t>",
        "<b>",
        "<s>",
        "<x>",
        "\"10min\"",
        "\"é\"",
        "true",
        " + ",
        " - ",
        " * ",
        " / ",
        " % ",
        "(",
        ")",
        ",",
        " ? ",
        " : ",
        " && ",
        " || ",
        "!",
        " == ",
        " < ",
        "average(",
        "total(",
        "or_else(",
        "good(",
        "text(",
        "lasts(",
        "[",
        "]",
        " in ",
        "ü",
        "\n",
        "\"",
        "'",
        "\\",
        "{",
        "}",
        ".",
        "at(",
        "r\"x\"",
        "0x1F",
        "1e400",
        "//",
        "\u{0}",
    ]);
    prop::collection::vec(piece, 0..24).prop_map(|all| all.concat())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    /// Whatever is typed is understood or refused at a place within it, and what is understood can be run.
    #[test]
    fn nothing_that_is_typed_does_harm(text in prop_oneof![pieces(), ".{0,40}"]) {
        let text = written(&text);
        let length = text.chars().count();
        match Parsed::of(&text) {
            Err(wrong) => prop_assert!(wrong.at <= length && wrong.to <= length + 1 && !wrong.words.is_empty(), "{text:?}: {wrong:?}"),
            Ok(_) => {
                let formula: Formula = serde_json::from_value(json!({"text": text})).unwrap();
                match compile(&formula, &facts, "", &Places::default()) {
                    Err(wrong) => prop_assert!(!wrong.is_empty()),
                    Ok(program) => {
                        let mut running = Running::new(program.into());
                        let number = Value::F64(3.0);
                        for at in 0..3 {
                            running.evaluate(at * SECOND, u64::MAX, &|_| Reading { value: Some(&number), quality: Quality::GOOD });
                        }
                    }
                }
            }
        }
    }
}

fn at(seconds: f64) -> Nanos {
    (seconds * SECOND as f64) as Nanos
}

#[rstest]
#[case("own(\"Level\") * 2", "at(\"1\") * 2")]
#[case("min( own ( 'Level' ) , own(\"Zone 1/Flow\"))", "min( at(\"1\") , at(\"2\"))")]
#[case("size(\"ü\") + own(\"Level\")", "size(\"ü\") + at(\"1\")")]
#[case("at(\"own(x)\") + 1", "at(\"own(x)\") + 1")]
#[case("own(\"Leve\\\"l)\") > 3 ? [1, own(\"Level\")] : [2]", "at(\"3\") > 3 ? [1, at(\"1\")] : [2]")]
fn own_properties_give_way_to_tags(#[case] text: &str, #[case] made: &str) {
    let tags = [("Level", "1"), ("Zone 1/Flow", "2"), ("Leve\"l)", "3")];
    let replace = |named: &str| tags.iter().find(|(name, _)| *name == named).map(|(_, tag)| Formula::call("at", tag));
    assert_eq!(Formula::with_own(text, replace).as_deref(), Ok(made));
}

#[rstest]
#[case("own(\"Lever\")", 0, 12, "The class has no property “Lever”.")]
#[case("1 + own(2)", 4, 7, "own(…) takes the name of one property between quotation marks.")]
#[case("own(\"a\", \"b\")", 0, 3, "own(…) takes the name of one property between quotation marks.")]
fn a_property_that_there_is_not_is_told_at_its_place(
    #[case] text: &str,
    #[case] at: usize,
    #[case] to: usize,
    #[case] words: &str,
) {
    assert_eq!(Formula::with_own(text, |_| None), Err(Wrong { at, to, words: words.into() }));
}
