//! A trend as a drawing (SVG): one strip per tag, each with its own axis, its limits and its gaps.

use havrel_core::{
    report::{Curve, number},
    time::{Nanos, to_local},
};
use maud::{Markup, PreEscaped, html};
use std::fmt::Write;

use crate::gather::PICTURE_WIDTH;

const HEIGHT: f64 = 84.0;
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
                @match drawing(curve, from, to, i) {
                    Some(svg) => (PreEscaped(svg)),
                    None => p.soft { (NOTHING) },
                }
            }
        }
        p.axis { span { (to_local(from, zone)) } span { (to_local(to, zone)) } }
    }
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
    const LINE: f64 = 12.0;
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

/// The strip of one curve as a drawing of its own; none where nothing was recorded.
pub(crate) fn drawing(curve: &Curve, from: Nanos, to: Nanos, index: usize) -> Option<String> {
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
        svg xmlns="http://www.w3.org/2000/svg" font-family="Atkinson Hyperlegible Next, sans-serif" viewBox=(format!("-4 -6 {} {}", width + 84.0, HEIGHT + 12.0)) role="img" aria-label=(curve.tag.name) {
            rect x="0" y="0" width=(width) height=(HEIGHT) fill="none" stroke="#dad5c6" {}
            @for ((words, level), named) in curve.limits.iter().zip(names) {
                line x1="0" x2=(width) y1=(format!("{:.1}", y(*level))) y2=(format!("{:.1}", y(*level))) stroke="#b26a00" stroke-dasharray="2 3" {}
                text x=(width + 6.0) y=(format!("{named:.1}")) fill="#8a5200" font-size="11" { (words) " " (number(Some(*level), decimals)) }
            }
            @for (from, to) in &pixels.by_hand {
                rect x=(format!("{:.1}", x(*from))) y=(HEIGHT - 4.0) width=(format!("{:.1}", (x(*to) - x(*from)).max(2.0))) height="4" fill="#55616b" {}
                text x=(format!("{:.1}", x(*from).min(width - 44.0))) y=(HEIGHT - 7.0) font-size="10" fill="#55616b" { "set by hand" }
            }
            path d=(path) fill="none" stroke=(colour) stroke-width="1.3" {}
            text x="4" y="11" font-size="10" fill="#55616b" { (number(Some(high), decimals)) }
            text x="4" y=(HEIGHT - 3.0) font-size="10" fill="#55616b" { (number(Some(low), decimals)) }
        }
    };
    Some(drawn.into_string())
}

#[cfg(test)]
mod tests {
    use super::apart;
    use proptest::prelude::*;

    #[test]
    fn lines_with_room_stay_where_they_belong() {
        assert_eq!(apart(&[80.0, 50.0, 20.0]), [80.0, 50.0, 20.0]);
        assert_eq!(apart(&[80.0, 79.0]), [80.0, 68.0]);
        assert_eq!(apart(&[10.0, 9.0]), [18.0, 6.0]);
    }

    proptest! {
        #[test]
        fn no_line_covers_another(mut wanted in prop::collection::vec(0.0..88.0f64, 0..6)) {
            wanted.sort_by(|a, b| b.total_cmp(a));
            let placed = apart(&wanted);
            prop_assert!(placed.windows(2).all(|p| p[0] - p[1] >= 12.0 - 1e-9), "{placed:?}");
            prop_assert!(placed.iter().all(|at| *at >= 6.0));
        }
    }
}
