//! A trend as a drawing (SVG): one strip per tag, each with its own axes, its limits and its gaps.

use havrel_core::{
    report::{Curve, number},
    time::{Nanos, SECOND, to_local},
};
use maud::{Markup, PreEscaped, html};
use std::fmt::Write;

use crate::gather::PICTURE_WIDTH;

const HEIGHT: f64 = 96.0;
/// Room for the figures of the axis of values, and for the times below.
const LEFT: f64 = 66.0;
const FOOT: f64 = 22.0;
const COLOURS: [&str; 6] = ["#0e6a6a", "#8a4b08", "#3d5a9e", "#7a2e6b", "#4b6b1f", "#6c5b00"];

/// Stands where a strip would be empty.
pub(crate) const NOTHING: &str = "Nothing was recorded in this period.";

/// Draws the strips of one section.
pub fn strips(curves: &[Curve], from: Nanos, to: Nanos, zone: &str) -> Markup {
    html! {
        @for (i, curve) in curves.iter().enumerate() {
            figure {
                figcaption {
                    b { (curve.tag.path) " " (curve.tag.name) } span.soft { @if !curve.tag.unit.is_empty() { ", " (curve.tag.unit) } }
                }
                @match drawing(curve, from, to, zone, i) {
                    Some(svg) => (PreEscaped(svg)),
                    None => p.soft { (NOTHING) },
                }
            }
        }
    }
}

/// Round marks of an axis of values: about four, at 1, 2 or 5 times a power of ten.
fn value_marks(low: f64, high: f64) -> Vec<f64> {
    let rough = (high - low) / 4.0;
    if !(rough.is_finite() && rough > 0.0) {
        return Vec::new();
    }
    let power = 10_f64.powf(rough.log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|s| *s >= rough).unwrap_or(rough);
    let first = (low / step).ceil();
    let count = ((high / step).floor() - first).max(-1.0) + 1.0;
    (0..(count as usize).min(12)).map(|i| (first + i as f64) * step).collect()
}

/// Steps between the marks of an axis of time, in seconds.
const STEPS: [Nanos; 15] = [1, 5, 15, 60, 300, 900, 1800, 3600, 7200, 14_400, 21_600, 43_200, 86_400, 7 * 86_400, 28 * 86_400];

/// Round instants, at most eight, and how each is written: the time of day, or the date where a day is a step.
fn time_marks(from: Nanos, to: Nanos, zone: &str) -> Vec<(Nanos, String)> {
    let longest = STEPS[STEPS.len() - 1];
    let step = STEPS.into_iter().find(|s| (to - from) / (s * SECOND) < 8).unwrap_or(longest) * SECOND;
    let first = from.div_euclid(step) * step + if from.rem_euclid(step) == 0 { 0 } else { step };
    let marks = (0..64).map(|i| first + i * step).take_while(|at| *at <= to);
    marks
        .map(|at| {
            let text = to_local(at, zone);
            let part = if step >= 86_400 * SECOND {
                text.get(5..10)
            } else if step < 60 * SECOND {
                text.get(11..19)
            } else {
                text.get(11..16)
            };
            (at, part.unwrap_or(&text).to_owned())
        })
        .collect()
}

/// The range drawn: the values and limits with a little air.
fn range(curve: &Curve) -> Option<(f64, f64)> {
    let values = curve.pixels.minimum.iter().chain(&curve.pixels.maximum).flatten().copied();
    let all = values.chain(curve.limits.iter().map(|l| l.1));
    let (low, high) = all.fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| (a.min(v), b.max(v)));
    let air = ((high - low) * 0.06).max(high.abs().max(1.0) * 1e-6);
    (low <= high).then_some((low - air, high + air))
}

/// Heights at which lines of text do not cover each other: as near as possible to where they belong, which falls from the
/// first to the last, and within the strip if there is room.
fn apart(wanted: &[f64]) -> Vec<f64> {
    const LINE: f64 = 14.0;
    let mut placed = wanted.to_vec();
    // From the lowest up: each at least a line above the one below it.
    for i in 1..placed.len() {
        placed[i] = placed[i].min(placed[i - 1] - LINE);
    }
    // What was pushed over the upper edge comes down again, and pushes the others.
    let mut least = 6.0;
    for at in placed.iter_mut().rev() {
        *at = at.max(least);
        least = *at + LINE;
    }
    placed
}

/// A mark with the tag's digits, and more where the marks lie closer.
fn mark_text(mark: f64, decimals: u8) -> String {
    let text = number(Some(mark), decimals);
    let exact = text.parse::<f64>().is_ok_and(|shown| (shown - mark).abs() <= mark.abs() * 1e-9);
    if exact { text } else { format!("{mark:.6}").trim_end_matches('0').trim_end_matches('.').to_owned() }
}

/// What a state held for: its number, and from where to where in the drawing.
fn stretches(curve: &Curve, x: impl Fn(i64) -> f64, width: f64) -> Vec<(f64, f64, f64)> {
    let mut all: Vec<(f64, f64, f64)> = Vec::new();
    let mut open: Option<(f64, f64)> = None;
    for (&offset, last) in curve.pixels.offset.iter().zip(&curve.pixels.last) {
        if open.map(|(state, _)| state) == *last {
            continue;
        }
        all.extend(open.map(|(state, from)| (state, from, x(offset))));
        open = last.map(|state| (state, x(offset)));
    }
    all.extend(open.map(|(state, from)| (state, from, width)));
    all
}

/// States one after the other, each a band of its own shade with its name, and a line where one follows another. Where several held
/// within one dot of the drawing, the dot is dark.
fn states(curve: &Curve, from: Nanos, to: Nanos, zone: &str, colour: &str) -> Option<String> {
    const HIGH: f64 = 30.0;
    let width = PICTURE_WIDTH as f64;
    let x = |offset: i64| offset as f64 / (to - from).max(1) as f64 * width;
    let bands = stretches(curve, x, width);
    if bands.is_empty() {
        return None;
    }
    let mut order: Vec<&(i64, String)> = curve.states.iter().collect();
    order.sort_by_key(|(value, _)| *value);
    let place = |state: f64| order.iter().position(|(value, _)| (*value as f64 - state).abs() < 1e-6);
    let shade = |state: f64| 0.15 + 0.45 * place(state).unwrap_or(0) as f64 / order.len().saturating_sub(1).max(1) as f64;
    let name = |state: f64| place(state).map_or_else(|| number(Some(state), 0), |at| order[at].1.clone());
    let pixels = &curve.pixels;
    let mixed = pixels.offset.iter().zip(pixels.minimum.iter().zip(&pixels.maximum)).filter(|(_, (low, high))| low < high);
    let drawn = html! {
        svg xmlns="http://www.w3.org/2000/svg" font-family="Atkinson Hyperlegible Next, sans-serif" viewBox=(format!("-{LEFT} -6 {} {}", width + LEFT + 96.0, HIGH + 6.0 + FOOT)) role="img" aria-label=(curve.tag.name) {
            @for (state, from, to) in bands {
                rect x=(format!("{from:.1}")) y="0" width=(format!("{:.1}", (to - from).max(0.2))) height=(HIGH) fill=(colour) fill-opacity=(format!("{:.2}", shade(state))) {}
                line x1=(format!("{from:.1}")) x2=(format!("{from:.1}")) y1="0" y2=(HIGH) stroke="#17232d" stroke-width="0.8" {}
                // A letter is about seven wide; a name that does not fit is left out.
                @let words = name(state);
                @if to - from > words.chars().count() as f64 * 7.0 + 8.0 {
                    text x=(format!("{:.1}", from + 5.0)) y=(HIGH / 2.0 + 4.5) font-size="13" fill="#17232d" { (words) }
                }
            }
            @for (offset, _) in mixed {
                rect x=(format!("{:.1}", x(*offset))) y="0" width="1" height=(HIGH) fill="#17232d" {}
            }
            @for (at, words) in time_marks(from, to, zone) {
                line x1=(format!("{:.1}", x(at - from))) x2=(format!("{:.1}", x(at - from))) y1=(HIGH) y2=(HIGH + 4.0) stroke="#55616b" {}
                text x=(format!("{:.1}", x(at - from))) y=(HIGH + 17.0) text-anchor="middle" font-size="13" fill="#55616b" { (words) }
            }
            rect x="0" y="0" width=(width) height=(HIGH) fill="none" stroke="#dad5c6" {}
            @for (from, to) in &pixels.by_hand {
                rect x=(format!("{:.1}", x(*from))) y=(HIGH - 4.0) width=(format!("{:.1}", (x(*to) - x(*from)).max(2.0))) height="4" fill="#17232d" {}
            }
            @if !pixels.by_hand.is_empty() {
                text x=(width + 6.0) y=(HIGH) font-size="13" fill="#55616b" { "set by hand" }
            }
        }
    };
    Some(drawn.into_string())
}

/// The strip of one curve as a drawing of its own; none where nothing was recorded.
pub(crate) fn drawing(curve: &Curve, from: Nanos, to: Nanos, zone: &str, index: usize) -> Option<String> {
    if !curve.states.is_empty() {
        return states(curve, from, to, zone, COLOURS[index % COLOURS.len()]);
    }
    let width = PICTURE_WIDTH as f64;
    let colour = COLOURS[index % COLOURS.len()];
    let (low, high) = range(curve)?;
    let x = |offset: i64| offset as f64 / (to - from).max(1) as f64 * width;
    let y = |value: f64| HEIGHT - (value - low) / (high - low) * HEIGHT;
    let pixels = &curve.pixels;
    let mut path = String::new();
    let mut pen_down = false;
    for (i, &offset) in pixels.offset.iter().enumerate() {
        let at = x(offset);
        match (pixels.minimum[i], pixels.maximum[i], pixels.last[i]) {
            (Some(least), Some(most), Some(last)) => {
                // Writing to a string cannot fail. A value holds until the next one: first across, then up and down.
                let _ = if pen_down { write!(path, "H{at:.1}") } else { write!(path, "M{at:.1} {:.1}", y(last)) };
                if least < most {
                    let _ = write!(path, "V{:.1}V{:.1}", y(least), y(most));
                }
                let _ = write!(path, "V{:.1}", y(last));
                pen_down = true;
            }
            _ => {
                if pen_down {
                    let _ = write!(path, "H{at:.1}");
                }
                pen_down = false;
            }
        }
    }
    if pen_down {
        let _ = write!(path, "H{width:.1}");
    }
    let decimals = curve.tag.decimals;
    let names = apart(&curve.limits.iter().map(|(_, level)| y(*level) + 4.0).collect::<Vec<_>>());
    let drawn = html! {
        svg xmlns="http://www.w3.org/2000/svg" font-family="Atkinson Hyperlegible Next, sans-serif" viewBox=(format!("-{LEFT} -6 {} {}", width + LEFT + 96.0, HEIGHT + 6.0 + FOOT)) role="img" aria-label=(curve.tag.name) {
            @for mark in value_marks(low, high) {
                line x1="-4" x2=(width) y1=(format!("{:.1}", y(mark))) y2=(format!("{:.1}", y(mark))) stroke="#ebe7da" {}
                text x="-7" y=(format!("{:.1}", y(mark) + 4.5)) text-anchor="end" font-size="13" fill="#55616b" { (mark_text(mark, decimals)) }
            }
            @for (at, words) in time_marks(from, to, zone) {
                line x1=(format!("{:.1}", x(at - from))) x2=(format!("{:.1}", x(at - from))) y1="0" y2=(HEIGHT + 4.0) stroke="#ebe7da" {}
                text x=(format!("{:.1}", x(at - from))) y=(HEIGHT + 17.0) text-anchor="middle" font-size="13" fill="#55616b" { (words) }
            }
            rect x="0" y="0" width=(width) height=(HEIGHT) fill="none" stroke="#dad5c6" {}
            @for ((words, level), named) in curve.limits.iter().zip(names) {
                line x1="0" x2=(width) y1=(format!("{:.1}", y(*level))) y2=(format!("{:.1}", y(*level))) stroke="#b26a00" stroke-dasharray="2 3" {}
                text x=(width + 6.0) y=(format!("{named:.1}")) fill="#8a5200" font-size="13" { (words) " " (number(Some(*level), decimals)) }
            }
            @for (from, to) in &pixels.by_hand {
                rect x=(format!("{:.1}", x(*from))) y=(HEIGHT - 4.0) width=(format!("{:.1}", (x(*to) - x(*from)).max(2.0))) height="4" fill="#55616b" {}
                text x=(format!("{:.1}", x(*from).min(width - 44.0))) y=(HEIGHT - 7.0) font-size="10" fill="#55616b" { "set by hand" }
            }
            path d=(path) fill="none" stroke=(colour) stroke-width="1.3" {}
        }
    };
    Some(drawn.into_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::{history::Pixels, report::Named};
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.0, 100.0, &[0.0, 50.0, 100.0])]
    #[case(58.6, 60.5, &[59.0, 59.5, 60.0, 60.5])]
    #[case(-0.3, 0.4, &[-0.2, 0.0, 0.2, 0.4])]
    #[case(5.0, 5.0, &[])]
    fn values_have_round_marks(#[case] low: f64, #[case] high: f64, #[case] marks: &[f64]) {
        let drawn = value_marks(low, high);
        assert_eq!(drawn.len(), marks.len(), "{drawn:?}");
        assert!(drawn.iter().zip(marks).all(|(a, b)| (a - b).abs() < 1e-9), "{drawn:?}");
    }

    #[rstest]
    #[case::quarter_hours(900, "UTC", &["00:00", "00:05", "00:10", "00:15"])]
    #[case::half_a_minute(30, "UTC", &["00:00:00", "00:00:05", "00:00:10", "00:00:15", "00:00:20", "00:00:25", "00:00:30"])]
    #[case::days(4 * 86_400, "Europe/Oslo", &["01-01", "01-02", "01-03", "01-04", "01-05"])]
    fn times_have_round_marks(#[case] seconds: i64, #[case] zone: &str, #[case] wanted: &[&str]) {
        let words: Vec<String> = time_marks(0, seconds * SECOND, zone).into_iter().map(|(_, words)| words).collect();
        assert_eq!(words, wanted);
    }

    #[test]
    fn lines_with_room_stay_where_they_belong() {
        assert_eq!(apart(&[80.0, 50.0, 20.0]), [80.0, 50.0, 20.0]);
        assert_eq!(apart(&[80.0, 79.0]), [80.0, 66.0]);
        assert_eq!(apart(&[10.0, 9.0]), [20.0, 6.0]);
    }

    #[test]
    fn states_are_bands_with_names_and_gaps_stay_empty() {
        let pixels = Pixels {
            offset: vec![0, 25, 50, 75],
            minimum: vec![Some(0.0), Some(1.0), None, Some(0.0)],
            maximum: vec![Some(0.0), Some(1.0), None, Some(1.0)],
            last: vec![Some(0.0), Some(1.0), None, Some(1.0)],
            by_hand: vec![],
        };
        let tag = Named { path: "Landing".into(), name: "Pump".into(), unit: String::new(), decimals: 0 };
        let curve = Curve { tag, pixels, states: vec![(0, "Stopped".into()), (1, "Running".into())], limits: vec![] };
        let quarter = PICTURE_WIDTH as f64 / 4.0;
        let x = |offset: i64| offset as f64 / 100.0 * PICTURE_WIDTH as f64;
        let bands = stretches(&curve, x, PICTURE_WIDTH as f64);
        assert_eq!(bands, [(0.0, 0.0, quarter), (1.0, quarter, 2.0 * quarter), (1.0, 3.0 * quarter, 4.0 * quarter)]);
        let drawn = drawing(&curve, 0, 100, "UTC", 0).unwrap();
        assert_eq!((drawn.matches(">Stopped<").count(), drawn.matches(">Running<").count()), (1, 2));
        assert_eq!(drawn.matches("width=\"1\"").count(), 1, "where both held within a dot");
        assert!(!drawn.contains("<path"), "states are no heights");
    }

    proptest! {
        #[test]
        fn no_line_covers_another(mut wanted in prop::collection::vec(0.0..88.0f64, 0..6)) {
            wanted.sort_by(|a, b| b.total_cmp(a));
            let placed = apart(&wanted);
            prop_assert!(placed.windows(2).all(|p| p[0] - p[1] >= 14.0 - 1e-9), "{placed:?}");
            prop_assert!(placed.iter().all(|at| *at >= 6.0));
        }
    }
}
