//! Structures that a server defines itself: their members, decoded after the definition of their type (OPC UA Part 6, 5.2.6; Part 3, 8.48).

use havrel_core::quality::Reason;
use opcua::types::{
    BinaryDecodable, ByteString, Context, ContextOwned, DataValue, DateTime, DecodingOptions, DiagnosticInfo, ExpandedNodeId,
    ExtensionObject, Guid, LocalizedText, NamespaceMap, NodeId, QualifiedName, StatusCode, UAString, Variant,
    VariantScalarTypeId, XmlElement,
};
use std::{io::Cursor, sync::Arc};

/// Deepest that structures lie in structures.
pub const DEEPEST: usize = 10;
/// Most members and elements of one value.
const MOST: usize = 20_000;

/// What a member holds.
#[derive(Clone, Debug, PartialEq)]
pub enum Kind {
    Plain(VariantScalarTypeId),
    Structure(Arc<Shape>),
}

/// A member.
#[derive(Clone, Debug, PartialEq)]
pub struct Member {
    pub name: String,
    pub kind: Kind,
    /// An array of one dimension.
    pub array: bool,
    /// It may be missing.
    pub optional: bool,
}

/// How a structure is laid out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Layout {
    All,
    /// A mask before the members says which of the optional ones are there.
    Optional,
    /// A number before it says which one member is there.
    Union,
}

/// A type of structures.
#[derive(Clone, Debug, PartialEq)]
pub struct Shape {
    pub layout: Layout,
    pub members: Vec<Member>,
}

/// What a value is made of.
#[derive(Clone, Debug, PartialEq)]
pub enum Content {
    Value(Variant),
    List(Vec<Content>),
    Structure(Vec<(String, Content)>),
}

impl Content {
    /// What it is, in a few words.
    pub fn about(&self) -> String {
        match self {
            Content::Structure(_) => "structure".into(),
            Content::List(_) => "array of structures".into(),
            Content::Value(Variant::Array(array)) => format!("{:?}, array", array.value_type),
            Content::Value(value) => value.scalar_type_id().map_or_else(|| "no value".into(), |kind| format!("{kind:?}")),
        }
    }
}

/// Reads the bytes of one value.
struct Reader<'a> {
    bytes: Cursor<&'a [u8]>,
    context: Context<'a>,
    /// How many members and elements it may have yet.
    left: usize,
}

impl Shape {
    /// A structure of this type.
    ///
    /// # Errors
    /// When the bytes are not one of this type, or hold more than is taken in.
    pub fn decode(&self, bytes: &[u8]) -> Result<Content, Reason> {
        let context = ContextOwned::new_default(NamespaceMap::new(), DecodingOptions::default());
        let mut reader = Reader { bytes: Cursor::new(bytes), context: context.context(), left: MOST };
        let content = reader.structure(self, 0)?;
        // Bytes that are left over belong to another definition than the one at hand.
        if reader.bytes.position() == bytes.len() as u64 { Ok(content) } else { Err(Reason::NoSuchType) }
    }
}

impl Reader<'_> {
    fn get<T: BinaryDecodable>(&mut self) -> Result<T, Reason> {
        T::decode(&mut self.bytes, &self.context).map_err(|_| Reason::NoSuchType)
    }

    fn structure(&mut self, shape: &Shape, depth: usize) -> Result<Content, Reason> {
        if depth > DEEPEST {
            return Err(Reason::NoSuchType);
        }
        let chosen = match shape.layout {
            Layout::All => 0,
            Layout::Optional | Layout::Union => self.get::<u32>()?,
        };
        let (mut members, mut bit) = (Vec::with_capacity(shape.members.len()), 0);
        for (number, member) in (1u32..).zip(&shape.members) {
            // Those that are not given count too: each takes room.
            self.left = self.left.checked_sub(1).ok_or(Reason::NoSuchType)?;
            let given = match shape.layout {
                Layout::All => true,
                Layout::Union => number == chosen,
                Layout::Optional if member.optional => {
                    bit += 1;
                    chosen.checked_shr(bit - 1).is_some_and(|mask| mask & 1 == 1)
                }
                Layout::Optional => true,
            };
            let content = if given { self.member(member, depth)? } else { Content::Value(Variant::Empty) };
            members.push((member.name.clone(), content));
        }
        Ok(Content::Structure(members))
    }

    fn member(&mut self, member: &Member, depth: usize) -> Result<Content, Reason> {
        if !member.array {
            return self.one(member, depth);
        }
        // An array that is not there has the length -1.
        let length = usize::try_from(self.get::<i32>()?).unwrap_or(0);
        (0..length).map(|_| self.one(member, depth)).collect::<Result<_, _>>().map(Content::List)
    }

    fn one(&mut self, member: &Member, depth: usize) -> Result<Content, Reason> {
        self.left = self.left.checked_sub(1).ok_or(Reason::NoSuchType)?;
        match &member.kind {
            Kind::Structure(shape) => self.structure(shape, depth + 1),
            Kind::Plain(kind) => self.plain(*kind).map(Content::Value),
        }
    }

    fn plain(&mut self, kind: VariantScalarTypeId) -> Result<Variant, Reason> {
        use VariantScalarTypeId as Id;
        Ok(match kind {
            Id::Boolean => Variant::Boolean(self.get()?),
            Id::SByte => Variant::SByte(self.get()?),
            Id::Byte => Variant::Byte(self.get()?),
            Id::Int16 => Variant::Int16(self.get()?),
            Id::UInt16 => Variant::UInt16(self.get()?),
            Id::Int32 => Variant::Int32(self.get()?),
            Id::UInt32 => Variant::UInt32(self.get()?),
            Id::Int64 => Variant::Int64(self.get()?),
            Id::UInt64 => Variant::UInt64(self.get()?),
            Id::Float => Variant::Float(self.get()?),
            Id::Double => Variant::Double(self.get()?),
            Id::String => Variant::String(self.get::<UAString>()?),
            Id::DateTime => Variant::from(self.get::<DateTime>()?),
            Id::Guid => Variant::from(self.get::<Guid>()?),
            Id::StatusCode => Variant::StatusCode(self.get::<StatusCode>()?),
            Id::ByteString => Variant::ByteString(self.get::<ByteString>()?),
            Id::XmlElement => Variant::XmlElement(self.get::<XmlElement>()?),
            Id::QualifiedName => Variant::from(self.get::<QualifiedName>()?),
            Id::LocalizedText => Variant::from(self.get::<LocalizedText>()?),
            Id::NodeId => Variant::from(self.get::<NodeId>()?),
            Id::ExpandedNodeId => Variant::from(self.get::<ExpandedNodeId>()?),
            Id::ExtensionObject => Variant::ExtensionObject(self.get::<ExtensionObject>()?),
            Id::DataValue => Variant::from(self.get::<DataValue>()?),
            Id::Variant => self.get::<Variant>()?,
            Id::DiagnosticInfo => Variant::from(self.get::<DiagnosticInfo>()?),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn member(name: &str, kind: Kind) -> Member {
        Member { name: name.into(), kind, array: false, optional: false }
    }

    fn shape(layout: Layout) -> Shape {
        use VariantScalarTypeId as Id;
        let inner = Shape { layout: Layout::All, members: vec![member("on", Kind::Plain(Id::Boolean))] };
        let list = Member { array: true, ..member("inner", Kind::Structure(Arc::new(inner))) };
        let text = Member { optional: true, ..member("text", Kind::Plain(Id::String)) };
        Shape { layout, members: vec![member("number", Kind::Plain(Id::Int16)), text, list] }
    }

    fn number(v: i16) -> (String, Content) {
        ("number".into(), Content::Value(Variant::Int16(v)))
    }

    fn missing(name: &str) -> (String, Content) {
        (name.into(), Content::Value(Variant::Empty))
    }

    fn inner(all: &[bool]) -> (String, Content) {
        let one = |on: &bool| Content::Structure(vec![("on".into(), Content::Value(Variant::Boolean(*on)))]);
        ("inner".into(), Content::List(all.iter().map(one).collect()))
    }

    #[rstest]
    #[case(Layout::All, b"\x07\0\x01\0\0\0a\x02\0\0\0\x01\0", vec![number(7), ("text".into(), Content::Value(Variant::from("a"))), inner(&[true, false])])]
    #[case(Layout::All, b"\x07\0\x01\0\0\0a\xff\xff\xff\xff", vec![number(7), ("text".into(), Content::Value(Variant::from("a"))), inner(&[])])]
    #[case(Layout::Optional, b"\0\0\0\0\x07\0\0\0\0\0", vec![number(7), missing("text"), inner(&[])])]
    #[case(Layout::Optional, b"\x01\0\0\0\x07\0\x01\0\0\0a\0\0\0\0", vec![number(7), ("text".into(), Content::Value(Variant::from("a"))), inner(&[])])]
    #[case(Layout::Union, b"\x02\0\0\0\x01\0\0\0a", vec![missing("number"), ("text".into(), Content::Value(Variant::from("a"))), missing("inner")])]
    #[case(Layout::Union, b"\0\0\0\0", vec![missing("number"), missing("text"), missing("inner")])]
    fn structures_are_read_after_their_definition(
        #[case] layout: Layout,
        #[case] bytes: &[u8],
        #[case] expected: Vec<(String, Content)>,
    ) {
        assert_eq!(shape(layout).decode(bytes), Ok(Content::Structure(expected)));
    }

    #[rstest]
    #[case::cut_off(b"\x07\0\x01\0\0\0a\x02\0\0\0\x01")]
    #[case::too_long(b"\x07\0\x01\0\0\0a\0\0\0\0\0")]
    #[case::endless(b"\x07\0\x01\0\0\0a\xff\xff\xff\x7f")]
    #[case::nothing(b"")]
    fn other_bytes_are_refused(#[case] bytes: &[u8]) {
        assert_eq!(shape(Layout::All).decode(bytes), Err(Reason::NoSuchType));
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(bytes in proptest::collection::vec(any::<u8>(), 0..200), layout in 0..3) {
            let layout = [Layout::All, Layout::Optional, Layout::Union][layout as usize];
            let _ = shape(layout).decode(&bytes);
        }
    }
}
