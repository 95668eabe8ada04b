//! Topics of Sparkplug B (Eclipse Sparkplug 3.0, 4.1): who says what, and where one answers.

/// What stands before every topic.
const NAMESPACE: &str = "spBv1.0";

/// An edge node, or a device behind one.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name {
    pub group: String,
    pub node: String,
    /// Empty for the edge node itself.
    pub device: String,
}

/// What a message tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum What {
    Birth,
    Death,
    Data,
}

impl Name {
    pub fn new(group: &str, node: &str, device: &str) -> Name {
        Name { group: group.to_owned(), node: node.to_owned(), device: device.to_owned() }
    }

    /// As people write it, which is how it stands in topics too: `Works/ES-1/Pump 1`.
    pub fn show(&self) -> String {
        let device = if self.device.is_empty() { String::new() } else { format!("/{}", self.device) };
        format!("{}/{}{device}", self.group, self.node)
    }

    /// The edge node of a device; its own for an edge node.
    pub fn of_node(&self) -> Name {
        Name { device: String::new(), ..self.clone() }
    }

    /// Where it tells something.
    pub fn tells(&self, what: What) -> String {
        let what = match what {
            What::Birth => "BIRTH",
            What::Death => "DEATH",
            What::Data => "DATA",
        };
        match self.device.as_str() {
            "" => format!("{NAMESPACE}/{}/N{what}/{}", self.group, self.node),
            device => format!("{NAMESPACE}/{}/D{what}/{}/{device}", self.group, self.node),
        }
    }

    /// Where a command to it is published.
    pub fn command(&self) -> String {
        match self.device.as_str() {
            "" => format!("{NAMESPACE}/{}/NCMD/{}", self.group, self.node),
            device => format!("{NAMESPACE}/{}/DCMD/{}/{device}", self.group, self.node),
        }
    }

    /// What is wrong with a part of a name, if anything (4.1.2 to 4.1.4).
    ///
    /// # Errors
    /// A sentence.
    pub fn check(part: &str) -> Result<(), &'static str> {
        match part.len() <= 200 && !part.is_empty() && !part.contains(['/', '+', '#']) && !part.chars().any(char::is_control) {
            true => Ok(()),
            false => Err("Enter a name without /, + and #, of at most 200 bytes."),
        }
    }
}

/// Whether a topic belongs to the name space of Sparkplug B.
pub fn is_topic(topic: &str) -> bool {
    topic.starts_with("spBv1.0/")
}

/// Who says what on a topic; `None` for commands, states and whatever else.
pub fn read(topic: &str) -> Option<(What, Name)> {
    let mut levels = topic.split('/');
    let (space, group, kind, node) = (levels.next()?, levels.next()?, levels.next()?, levels.next()?);
    let (device, more) = (levels.next(), levels.next());
    let what = match (kind, device) {
        ("NBIRTH", None) | ("DBIRTH", Some(_)) => What::Birth,
        ("NDEATH", None) | ("DDEATH", Some(_)) => What::Death,
        ("NDATA", None) | ("DDATA", Some(_)) => What::Data,
        _ => return None,
    };
    let device = device.unwrap_or_default();
    let named = [group, node].into_iter().chain((kind.starts_with('D')).then_some(device)).all(|part| Name::check(part).is_ok());
    (space == NAMESPACE && more.is_none() && named).then(|| (what, Name::new(group, node, device)))
}

/// Where a host application tells whether it is there.
pub fn state(host: &str) -> String {
    format!("{NAMESPACE}/STATE/{host}")
}

/// The topics of a group; of every group where none is named.
pub fn all_of(group: &str) -> String {
    if group.is_empty() { format!("{NAMESPACE}/#") } else { format!("{NAMESPACE}/{group}/#") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("spBv1.0/Works/NBIRTH/ES-1", Some((What::Birth, Name::new("Works", "ES-1", ""))))]
    #[case("spBv1.0/Works/NDEATH/ES-1", Some((What::Death, Name::new("Works", "ES-1", ""))))]
    #[case("spBv1.0/Works/DDATA/ES-1/Pump 1", Some((What::Data, Name::new("Works", "ES-1", "Pump 1"))))]
    #[case("spBv1.0/Works/DBIRTH/ES-1", None)]
    #[case("spBv1.0/Works/NDATA/ES-1/Pump 1", None)]
    #[case("spBv1.0/Works/DDATA/ES-1/Pump 1/x", None)]
    #[case("spBv1.0/Works/DDATA/ES-1/", None)]
    #[case("spBv1.0/Works/NCMD/ES-1", None)]
    #[case("spBv1.0//NDATA/ES-1", None)]
    #[case("spBv1.0/STATE/havrel", None)]
    #[case("spAv1.0/Works/NDATA/ES-1", None)]
    fn a_topic_says_who_tells_what(#[case] topic: &str, #[case] expected: Option<(What, Name)>) {
        assert_eq!(read(topic), expected);
    }

    #[test]
    fn names_lead_to_topics() {
        let device = Name::new("Works", "ES-1", "Pump 1");
        for (name, what) in [(&device, What::Data), (&device, What::Birth), (&device.of_node(), What::Death)] {
            assert_eq!(read(&name.tells(what)), Some((what, name.clone())));
        }
        assert_eq!((device.command().as_str(), device.show().as_str()), ("spBv1.0/Works/DCMD/ES-1/Pump 1", "Works/ES-1/Pump 1"));
        let node = device.of_node();
        assert_eq!((node.command().as_str(), node.show().as_str()), ("spBv1.0/Works/NCMD/ES-1", "Works/ES-1"));
        assert_eq!(
            (state("h").as_str(), all_of("").as_str(), all_of("W").as_str()),
            ("spBv1.0/STATE/h", "spBv1.0/#", "spBv1.0/W/#")
        );
    }
}
