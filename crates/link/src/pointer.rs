//! Which part of a structured value is meant (JSON Pointer, RFC 6901), and how such a part is named as a node.

/// Most bytes of a pointer as text.
const MOST: usize = 500;
/// Deepest that a part lies.
const DEEPEST: usize = 10;

/// The names of members and the numbers of elements that lead to a part, the outermost first. Empty: the whole value.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Pointer(Vec<String>);

impl Pointer {
    /// Reads a part as JSON Pointer (RFC 6901): `/2/temperature`.
    ///
    /// # Errors
    /// A sentence.
    pub fn parse(text: &str) -> Result<Pointer, &'static str> {
        let text = text.trim();
        let Some(rest) = text.strip_prefix('/') else {
            return if text.is_empty() {
                Ok(Pointer::default())
            } else {
                Err("A member begins with a slash, like /temperature, or /2/temperature in an array of structures.")
            };
        };
        let steps: Vec<_> = rest.split('/').map(|step| step.replace("~1", "/").replace("~0", "~")).collect();
        match text.len() <= MOST && steps.len() <= DEEPEST {
            true => Ok(Pointer(steps)),
            false => Err("A member lies at most 10 levels deep and has at most 500 bytes."),
        }
    }

    /// As JSON Pointer.
    pub fn show(&self) -> String {
        self.0.iter().map(|step| format!("/{}", step.replace('~', "~0").replace('/', "~1"))).collect()
    }

    /// The part that lies one step further in.
    pub fn with(&self, step: &str) -> Pointer {
        Pointer(self.0.iter().cloned().chain([step.to_owned()]).collect())
    }

    pub fn is_whole(&self) -> bool {
        self.0.is_empty()
    }

    /// The name of the innermost member or element; empty for the whole value.
    pub fn name(&self) -> &str {
        self.0.last().map_or("", String::as_str)
    }

    /// The names and numbers, the outermost first.
    pub fn steps(&self) -> &[String] {
        &self.0
    }

    /// The id of a part of the value of a node: `part=/Bags/0;` before that of the node.
    pub fn in_node(&self, node: &str) -> String {
        format!("part={};{node}", self.show().replace('%', "%25").replace(';', "%3B"))
    }

    /// The part and the node of such an id; of another one, all of its value.
    ///
    /// # Errors
    /// A sentence, where the part is none.
    pub fn split(id: &str) -> Result<(Pointer, &str), &'static str> {
        match id.strip_prefix("part=").and_then(|rest| rest.split_once(';')) {
            Some((part, node)) => Ok((Pointer::parse(&part.replace("%3B", ";").replace("%25", "%"))?, node)),
            None => Ok((Pointer::default(), id)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("", "")]
    #[case(" /temperature ", "/temperature")]
    #[case("/2/a~1b~0c", "/2/a~1b~0c")]
    fn parts_are_written_as_json_pointers(#[case] text: &str, #[case] shown: &str) {
        assert_eq!(Pointer::parse(text).unwrap().show(), shown);
    }

    #[rstest]
    #[case("temperature")]
    #[case("/1/2/3/4/5/6/7/8/9/10/11")]
    fn others_are_refused(#[case] text: &str) {
        assert!(Pointer::parse(text).is_err());
    }

    proptest! {
        #[test]
        fn what_is_shown_is_read_as_the_same(steps in proptest::collection::vec("[^ \\t\\n]{1,8}", 0..5)) {
            let part = steps.iter().fold(Pointer::default(), |part, step| part.with(step));
            let shown = part.show();
            // Space at the ends is not part of it.
            prop_assume!(shown.trim() == shown);
            prop_assert_eq!(Pointer::parse(&shown), Ok(part));
        }
    }
}
