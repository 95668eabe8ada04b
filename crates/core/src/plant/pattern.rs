//! Names and numbers of many like things, written once: `Vessel {1..8}`, `Pump {A..D}`, `Zone {01..12}`, and for what only counts
//! along with them `{100 by 40}`.

/// The most that one pattern may give.
pub const MOST: usize = 5_000;

/// What stands between braces.
#[derive(Clone, Debug, PartialEq)]
enum Range {
    /// From, step, how many (`None`: as many as are needed), and the width to which numbers are filled with zeros.
    Numbers {
        from: i64,
        step: i64,
        count: Option<usize>,
        width: usize,
    },
    Letters {
        from: char,
        count: usize,
    },
}

impl Range {
    fn of(text: &str) -> Result<Range, String> {
        let unreadable = || format!("“{{{text}}}” cannot be read. Write {{1..8}}, {{A..D}}, {{01..12}} or {{100 by 40}}.");
        let (span, step) = match text.split_once(" by ") {
            Some((span, step)) => (span, step.trim().parse::<i64>().ok().filter(|step| *step != 0).ok_or_else(unreadable)?),
            None => (text, 1),
        };
        let Some((from, to)) = span.split_once("..").map(|(from, to)| (from.trim(), to.trim())) else {
            // Without an end it counts along, and must say by how much.
            let from = span.trim().parse().ok().filter(|_| text.contains(" by ")).ok_or_else(unreadable)?;
            return Ok(Range::Numbers { from, step, count: None, width: 0 });
        };
        let letter = |text: &str| text.chars().next().filter(|c| c.is_ascii_alphabetic() && text.len() == 1);
        if let (Some(from), Some(to)) = (letter(from), letter(to)) {
            let count = (to as usize).checked_sub(from as usize).filter(|_| from.is_ascii_uppercase() == to.is_ascii_uppercase());
            return Ok(Range::Letters { from, count: count.ok_or_else(unreadable)? + 1 });
        }
        let (first, last): (i64, i64) = (from.parse().map_err(|_| unreadable())?, to.parse().map_err(|_| unreadable())?);
        let span = i128::from(last) - i128::from(first);
        let count = span / i128::from(step);
        if count < 0 || count >= MOST as i128 {
            return Err(if count < 0 { unreadable() } else { format!("“{{{text}}}” gives more than {MOST}.") });
        }
        let filled = from.starts_with('0') && from.len() > 1;
        let width = if filled { from.len() } else { 0 };
        Ok(Range::Numbers { from: first, step, count: Some(count as usize + 1), width })
    }

    fn count(&self) -> Option<usize> {
        match self {
            Range::Numbers { count, .. } => *count,
            Range::Letters { count, .. } => Some(*count),
        }
    }

    fn nth(&self, n: usize) -> String {
        match *self {
            Range::Numbers { from, step, width, .. } => {
                format!("{:0width$}", i128::from(from) + i128::from(step) * n as i128)
            }
            Range::Letters { from, .. } => char::from(from as u8 + n as u8).to_string(),
        }
    }
}

/// A text taken apart: what stands before each range, the ranges, and what stands behind the last.
struct Pattern<'a> {
    before: Vec<(&'a str, Range)>,
    rest: &'a str,
}

impl<'a> Pattern<'a> {
    fn of(text: &'a str) -> Result<Pattern<'a>, String> {
        let (mut before, mut rest) = (Vec::new(), text);
        while let Some((start, after)) = rest.split_once('{') {
            let (inside, after) = after.split_once('}').ok_or("A brace is not closed.")?;
            before.push((start, Range::of(inside.trim())?));
            rest = after;
        }
        Ok(Pattern { before, rest })
    }

    fn write(&self, mut index: impl FnMut(usize, &Range) -> usize) -> String {
        let mut made = String::new();
        for (position, (start, range)) in self.before.iter().enumerate() {
            made.push_str(start);
            made.push_str(&range.nth(index(position, range)));
        }
        made + self.rest
    }
}

/// The names that a pattern gives; several ranges are combined, the last one counting fastest.
///
/// # Errors
/// A sentence for whoever wrote it.
pub fn names(text: &str) -> Result<Vec<String>, String> {
    let pattern = Pattern::of(text)?;
    let endless = || "Say where it ends, for example {1..8}; only other columns count along.".to_owned();
    let counts: Vec<usize> = pattern.before.iter().map(|(_, r)| r.count().ok_or_else(endless)).collect::<Result<_, _>>()?;
    let total = counts.iter().try_fold(1usize, |all, count| all.checked_mul(*count)).filter(|total| *total <= MOST);
    let total = total.ok_or_else(|| format!("This gives more than {MOST} names."))?;
    let name = |n: usize| {
        pattern.write(|position, _| {
            let faster: usize = counts[position + 1..].iter().product();
            n / faster % counts[position]
        })
    };
    Ok((0..total).map(name).collect())
}

/// What a pattern gives beside `count` names: the same for all, or counting along.
///
/// # Errors
/// A sentence for whoever wrote it.
pub fn series(text: &str, count: usize) -> Result<Vec<String>, String> {
    let pattern = Pattern::of(text)?;
    let short = pattern.before.iter().filter_map(|(_, range)| range.count()).find(|given| *given != count);
    if let Some(given) = short {
        return Err(format!("This gives {given}, and there are {count} rows."));
    }
    Ok((0..count).map(|n| pattern.write(|_, _| n)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("EX-1", &["EX-1"])]
    #[case("Vessel {1..3}", &["Vessel 1", "Vessel 2", "Vessel 3"])]
    #[case("Pump {A..C}", &["Pump A", "Pump B", "Pump C"])]
    #[case("{08..11} zone", &["08 zone", "09 zone", "10 zone", "11 zone"])]
    #[case("L{1..2}-{a..b}", &["L1-a", "L1-b", "L2-a", "L2-b"])]
    #[case("{10..30 by 10}", &["10", "20", "30"])]
    #[case("{3..1 by -1}", &["3", "2", "1"])]
    fn names_are_counted_out(#[case] text: &str, #[case] expected: &[&str]) {
        assert_eq!(names(text).unwrap(), expected);
    }

    #[rstest]
    #[case("{1..", "A brace is not closed.")]
    #[case("{}", "“{}” cannot be read.")]
    #[case("{8..1}", "“{8..1}” cannot be read.")]
    #[case("{A..9}", "“{A..9}” cannot be read.")]
    #[case("{a..D}", "“{a..D}” cannot be read.")]
    #[case("{1..8 by 0}", "“{1..8 by 0}” cannot be read.")]
    #[case("{5}", "“{5}” cannot be read.")]
    #[case("{1..100000}", "“{1..100000}” gives more than 5000.")]
    #[case("{1..100}{1..100}", "This gives more than 5000 names.")]
    #[case("{100 by 40}", "Say where it ends")]
    fn what_gives_no_names_is_told(#[case] text: &str, #[case] words: &str) {
        assert!(names(text).unwrap_err().starts_with(words), "{:?}", names(text));
    }

    #[rstest]
    #[case("{100 by 40}", Ok(vec!["100", "140", "180"]))]
    #[case("works/ex-{1..3}", Ok(vec!["works/ex-1", "works/ex-2", "works/ex-3"]))]
    #[case("Extraction", Ok(vec!["Extraction", "Extraction", "Extraction"]))]
    #[case("{1..4}", Err("This gives 4, and there are 3 rows."))]
    fn other_columns_count_along(#[case] text: &str, #[case] expected: Result<Vec<&str>, &str>) {
        let expected = expected.map(|all| all.into_iter().map(String::from).collect()).map_err(String::from);
        assert_eq!(series(text, 3), expected);
    }

    proptest! {
        /// Whatever is written comes to an end, and gives bounded lists of names that are all different.
        #[test]
        fn any_pattern_comes_to_an_end(text in "[A-C{}.0-9 by-]{0,16}", count in 0usize..20) {
            if let Ok(names) = names(&text) {
                prop_assert!(!names.is_empty() && names.len() <= MOST);
            }
            if let Ok(series) = series(&text, count) {
                prop_assert_eq!(series.len(), count);
            }
        }

        #[test]
        fn a_range_gives_each_number_once(from in -50i64..50, count in 1i64..60, step in 1i64..9) {
            let names = names(&format!("{{{from}..{} by {step}}}", from + (count - 1) * step)).unwrap();
            let expected: Vec<String> = (0..count).map(|n| (from + n * step).to_string()).collect();
            prop_assert_eq!(names, expected);
        }
    }
}
