//! Node ids as text (OPC UA Part 6, 5.1.12), by the name of their namespace: its number may change whenever the server starts.
//!
//! ```text
//! node       = [ "nsu=" uri ";" | "ns=" number ";" ] identifier
//! identifier = "i=" number | "s=" text | "g=" GUID | "b=" base64
//! ```
//!
//! In the URI a semicolon is written `%3B` and a percent sign `%25`.

use opcua::types::{DataTypeId, Identifier, NamespaceMap, NodeId};
use std::{fmt, str::FromStr};

/// Most bytes of a node id as text.
pub const MOST: usize = 4096;

/// A namespace.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Namespace {
    /// By its name; empty for the standard's own.
    Uri(String),
    /// By its number, where somebody writes one.
    Number(u16),
}

/// A node, whatever numbers the server gives its namespaces.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Node {
    pub namespace: Namespace,
    pub identifier: Identifier,
}

impl Node {
    /// The node behind an id of a server with these namespaces; one in a namespace without a name keeps its number.
    pub fn of(id: &NodeId, namespaces: &NamespaceMap) -> Node {
        let name = namespaces.known_namespaces().iter().find(|(_, number)| **number == id.namespace);
        let namespace = match (id.namespace, name) {
            (0, _) => Namespace::Uri(String::new()),
            (_, Some((uri, _))) => Namespace::Uri(uri.clone()),
            (number, None) => Namespace::Number(number),
        };
        Node { namespace, identifier: id.identifier.clone() }
    }

    /// Its id in a server with these namespaces; `None` where the server lacks its namespace.
    pub fn id(&self, namespaces: &NamespaceMap) -> Option<NodeId> {
        let number = match &self.namespace {
            Namespace::Uri(uri) if uri.is_empty() => 0,
            Namespace::Uri(uri) => namespaces.get_index(uri)?,
            Namespace::Number(number) => *number,
        };
        Some(NodeId { namespace: number, identifier: self.identifier.clone() })
    }
}

/// The name of a type of the standard (Part 6, A.3), such as UInt32; none for another node.
pub fn standard_type(id: &NodeId) -> Option<String> {
    let number = id.as_u32().filter(|_| id.namespace == 0)?;
    DataTypeId::try_from(number).ok().map(|known| format!("{known:?}"))
}

impl fmt::Display for Node {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.namespace {
            Namespace::Uri(uri) if uri.is_empty() => {}
            Namespace::Uri(uri) => write!(f, "nsu={};", uri.replace('%', "%25").replace(';', "%3B"))?,
            Namespace::Number(number) => write!(f, "ns={number};")?,
        }
        write!(f, "{}", self.identifier)
    }
}

impl FromStr for Node {
    /// What is wrong, as a sentence.
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Node, &'static str> {
        let text = text.trim();
        if text.len() > MOST {
            return Err("A node id has at most 4,096 bytes.");
        }
        let (namespace, rest) = if let Some(rest) = text.strip_prefix("nsu=") {
            let (uri, rest) = rest.split_once(';').ok_or("After the namespace comes a semicolon.")?;
            let uri = uri.replace("%3B", ";").replace("%3b", ";").replace("%25", "%");
            if uri.is_empty() {
                return Err("The name of the namespace is missing.");
            }
            (Namespace::Uri(uri), rest)
        } else if let Some(rest) = text.strip_prefix("ns=") {
            let (number, rest) = rest.split_once(';').ok_or("After the namespace comes a semicolon.")?;
            let number = number.parse().map_err(|_| "The number of a namespace lies between 0 and 65535.")?;
            (if number == 0 { Namespace::Uri(String::new()) } else { Namespace::Number(number) }, rest)
        } else {
            (Namespace::Uri(String::new()), text)
        };
        let unknown =
            "Enter a node id, such as nsu=urn:dryer;s=Zone1.Temperature; it ends with i=, s=, g= or b= and the identifier.";
        let identifier = Identifier::from_str(rest.get(..2).map_or("", |_| rest)).map_err(|()| unknown)?;
        match &identifier {
            Identifier::String(text) if text.as_ref().is_empty() => Err("The identifier is missing."),
            _ => Ok(Node { namespace, identifier }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn namespaces() -> NamespaceMap {
        let mut map = NamespaceMap::new();
        map.add_namespace("urn:dryer");
        map.add_namespace("urn:odd;name%");
        map
    }

    #[rstest]
    #[case("i=85", "i=85")]
    #[case("ns=0;i=85", "i=85")]
    #[case("nsu=urn:dryer;s=Zone1.Temperature", "nsu=urn:dryer;s=Zone1.Temperature")]
    #[case(" nsu=urn:dryer;s=a;b=c ", "nsu=urn:dryer;s=a;b=c")]
    #[case("ns=4;g=72962b91-fa75-4ae6-8d28-b404dc7daf63", "ns=4;g=72962b91-fa75-4ae6-8d28-b404dc7daf63")]
    #[case("ns=4;b=AQID", "ns=4;b=AQID")]
    fn node_ids_are_read(#[case] text: &str, #[case] shown: &str) {
        assert_eq!(text.parse::<Node>().unwrap().to_string(), shown);
    }

    #[rstest]
    #[case("")]
    #[case("85")]
    #[case("i=")]
    #[case("i=-1")]
    #[case("i=4294967296")]
    #[case("s=")]
    #[case("ns=70000;i=1")]
    #[case("ns=1")]
    #[case("nsu=;i=1")]
    #[case("g=nothing")]
    #[case("b=***")]
    #[case("é=1")]
    fn others_are_refused(#[case] text: &str) {
        assert!(text.parse::<Node>().is_err(), "{text}");
    }

    #[test]
    fn a_namespace_keeps_its_name_when_its_number_changes() {
        let node: Node = "nsu=urn:dryer;i=7".parse().unwrap();
        assert_eq!(node.id(&namespaces()).unwrap().namespace, 1);
        let mut other = NamespaceMap::new();
        other.add_namespace("urn:else");
        assert_eq!(node.id(&other), None);
        other.add_namespace("urn:dryer");
        assert_eq!(node.id(&other).unwrap().namespace, 2);
    }

    proptest! {
        #[test]
        fn what_is_shown_is_read_as_the_same(number in 0u16..4, text in "[^\\x00]{1,40}", numeric in any::<Option<u32>>()) {
            let identifier = numeric.map_or_else(|| Identifier::from(text.trim()), Identifier::from);
            prop_assume!(numeric.is_some() || !text.trim().is_empty());
            let id = NodeId { namespace: number, identifier };
            let node = Node::of(&id, &namespaces());
            let read: Node = node.to_string().parse().unwrap();
            prop_assert_eq!(&read, &node);
            prop_assert_eq!(read.id(&namespaces()).unwrap(), id);
        }

        #[test]
        fn nothing_typed_makes_it_panic(text in "\\PC{0,60}") {
            let _ = text.parse::<Node>();
        }
    }
}
