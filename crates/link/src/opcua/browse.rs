//! The address space of a server as a tree of nodes, page by page: what lies below a node, with what its variables hold now and
//! what the server says of them (OPC UA Part 8: unit, range, state names).

use super::{
    learn::learn,
    method,
    node::{Node as NodeText, standard_type},
    part::{Part, has_parts, is_divided, parts, shown},
    server::{Server, attribute},
    shapes::{Shapes, encodings},
    status,
    structure::Content,
    value,
};
use crate::{Ask, Children, LinkError, Node, Reading, State, now};
use havrel_core::{
    plant::{Own, view::natural},
    unit,
};
use opcua::types::{
    Argument, AttributeId, BrowseDescription, BrowseDirection, BrowseResultMaskFlags, ByteString, DataValue, EUInformation,
    NamespaceMap, NodeClass, NodeClassMask, NodeId, ObjectId, ObjectTypeId, Range as EuRange, ReferenceDescription,
    ReferenceTypeId, StatusCode, Variant, VariantScalarTypeId,
};
use serde_json::{Value as Json, json};
use std::{
    collections::{HashMap, HashSet},
    ops::Range,
};

/// Most nodes of a page.
const MOST: usize = 1000;
/// Most references of a variable that are looked at: its properties and whether anything lies below it.
const MOST_OF_VARIABLE: u32 = 50;
/// Longest name or description, in characters.
const MOST_NAME: usize = 500;
/// Most state names that are taken over.
const MOST_STATES: usize = 64;

fn below(node: &NodeId) -> BrowseDescription {
    BrowseDescription {
        node_id: node.clone(),
        browse_direction: BrowseDirection::Forward,
        reference_type_id: ReferenceTypeId::HierarchicalReferences.into(),
        include_subtypes: true,
        node_class_mask: (NodeClassMask::OBJECT | NodeClassMask::VARIABLE | NodeClassMask::METHOD).bits(),
        result_mask: BrowseResultMaskFlags::all().bits(),
    }
}

/// Whether a reference leads to a property.
fn is_property(reference: &ReferenceDescription) -> bool {
    reference.reference_type_id == ReferenceTypeId::HasProperty
}

/// Whether a reference leads to how the server records a node (OPC UA Part 11, 5.2.2), which is nothing of the plant.
fn is_recording(reference: &ReferenceDescription) -> bool {
    reference.reference_type_id == ReferenceTypeId::HasHistoricalConfiguration
}

/// A page of what lies below a node.
///
/// # Errors
/// When the server does not answer, or does not know the node.
pub(super) async fn page(server: &Server, namespaces: &NamespaceMap, ask: &Ask) -> Result<Children, LinkError> {
    let most = ask.most.clamp(1, MOST) as u32;
    let refused = |words: &str| LinkError::BadRequest(words.to_owned());
    let (part, asked) = Part::split(&ask.node).map_err(refused)?;
    let of_object;
    let mut nodes = Vec::new();
    let refused_cursor = || refused("Take the cursor from “next” of the page before.");
    let first = match ask.cursor.strip_prefix('p') {
        Some(number) => Some(number.parse::<usize>().map_err(|_| refused_cursor())?),
        None => ask.cursor.is_empty().then_some(0),
    };
    let told = if let Some(first) = first {
        let node = match asked {
            "" => ObjectId::ObjectsFolder.into(),
            text => {
                let node: NodeText = text.parse().map_err(refused)?;
                node.id(namespaces).ok_or_else(|| status::error(StatusCode::BadNodeIdUnknown, server.timeout_ms))?
            }
        };
        let told = server.read(&[attribute(&node, AttributeId::NodeClass), attribute(&node, AttributeId::Value)]).await?;
        // Some servers give an empty page for a node that they do not have.
        if let Some(code) = told[0].status.filter(StatusCode::is_bad) {
            return Err(status::error(code, server.timeout_ms));
        }
        of_object = told[0].value != Some(Variant::Int32(NodeClass::Variable as i32));
        learn(server, told.iter().flat_map(encodings).collect()).await?;
        let within = first..first.saturating_add(most as usize);
        let more;
        (nodes, more) = in_value(asked, &part, told[1].value.as_ref(), within.clone(), &server.shapes);
        // What lies below the node itself comes after all that lies in its value.
        if more || !part.is_whole() {
            let next = more.then(|| format!("p{}", within.end));
            return Ok(Children { read_at: now(), nodes, next, ..Children::default() });
        }
        let mut told = server.browse(&[below(&node)], most).await?;
        told.pop().ok_or_else(|| LinkError::WrongAnswer("no page came".into()))?
    } else {
        let (kind, point) = ask.cursor.split_at_checked(1).unwrap_or_default();
        of_object = kind == "o";
        let point = ByteString::from_base64(point).filter(|_| kind == "o" || kind == "v");
        let point = point.ok_or_else(refused_cursor)?;
        server.browse_on(point).await?
    };
    if told.status_code.is_bad() {
        return Err(status::error(told.status_code, server.timeout_ms));
    }
    let mut seen = HashSet::new();
    let mut found = told.references.unwrap_or_default();
    // Leaves out nodes of other servers, which cannot be read here, and further references to the same node.
    found.retain(|r| {
        let inside = (!of_object && is_property(r)) || is_recording(r);
        r.node_id.server_index == 0 && !inside && seen.insert(r.node_id.node_id.clone())
    });
    let mut described = describe(server, namespaces, asked, found).await?;
    // Servers give them in any order.
    described.sort_by(|a, b| natural(&a.name, &b.name));
    // Many servers show the members of a structure as nodes too, which can be subscribed and written alone.
    nodes.retain(|member| !described.iter().any(|node| node.name == member.name));
    nodes.extend(described);
    let next = told.continuation_point.value.as_deref().filter(|point| !point.is_empty());
    let next = next.map(|_| format!("{}{}", if of_object { "o" } else { "v" }, told.continuation_point.as_base64()));
    Ok(Children { read_at: now(), parts: Vec::new(), nodes, next })
}

/// The elements and members right inside a part of a value, each a node of its own: by index in an array of plain values, where the
/// server picks it, else by where it lies in the structure. Gives those within a range, and whether more follow.
fn in_value(node: &str, part: &Part, held: Option<&Variant>, within: Range<usize>, shapes: &Shapes) -> (Vec<Node>, bool) {
    let Some(content) = held.and_then(|held| part.of(held, shapes).ok()) else { return (Vec::new(), false) };
    let plain = part.is_whole() && matches!(content, Content::Value(_));
    let listed = !matches!(content, Content::Structure(_));
    let all = parts(&content, shapes);
    let more = all.len() > within.end;
    let described = all.into_iter().skip(within.start).take(within.len()).map(|(step, content)| {
        let inner = part.with(&step);
        let (branch, text) = (has_parts(&content), shown(&content, shapes).map(|v| v.text()));
        let picked = if plain && !branch {
            json!({"address": node, "element": step})
        } else {
            json!({"address": node, "part": inner.show()})
        };
        let mut picked = object(picked);
        if let Content::Value(one) = &content
            && !branch
            && let Some(kind) =
                one.scalar_type_id().map(|kind| kind_of(&NodeId::new(0, kind as u32))).filter(|kind| !kind.is_empty())
        {
            picked.insert("type".into(), kind.into());
        }
        let mut described = Node {
            id: inner.in_node(node),
            name: if listed { format!("[{step}]") } else { short(&step) },
            branch,
            inside: true,
            about: content.about(),
            point: Some(picked),
            ..Node::default()
        };
        match text {
            Ok(text) => described.readings.push(Reading { point: Own::new(), text }),
            Err(reason) => described.refused = sentence(reason.words()),
        }
        described
    });
    (described.collect(), more)
}

/// What is known of a variable.
#[derive(Default)]
struct About {
    branch: bool,
    /// The well-known properties: which, and their node.
    properties: Vec<(Property, NodeId)>,
}

/// Properties that say how a value is meant (OPC UA Part 8, 5.3.2; Part 3, 5.6.3).
#[derive(Clone, Copy, PartialEq, Eq)]
enum Property {
    Unit,
    Range,
    EnumStrings,
    EnumValues,
    TrueState,
    FalseState,
    Precision,
    /// What a method takes.
    Inputs,
}

impl Property {
    fn of(name: &str) -> Option<Property> {
        Some(match name {
            "EngineeringUnits" => Property::Unit,
            "EURange" => Property::Range,
            "EnumStrings" => Property::EnumStrings,
            "EnumValues" => Property::EnumValues,
            "TrueState" => Property::TrueState,
            "FalseState" => Property::FalseState,
            "ValuePrecision" => Property::Precision,
            "InputArguments" => Property::Inputs,
            _ => return None,
        })
    }
}

async fn describe(
    server: &Server,
    namespaces: &NamespaceMap,
    above: &str,
    found: Vec<ReferenceDescription>,
) -> Result<Vec<Node>, LinkError> {
    let types = types_of(server, &found).await?;
    // What has properties that tell of it.
    let told_of: Vec<&ReferenceDescription> = found.iter().filter(|r| r.node_class != NodeClass::Object).collect();
    let asked: Vec<_> = told_of.iter().map(|r| below(&r.node_id.node_id)).collect();
    let mut open = Vec::new();
    let mut about = Vec::with_capacity(told_of.len());
    for told in server.browse(&asked, MOST_OF_VARIABLE).await? {
        open.extend(Some(told.continuation_point).filter(|p| p.value.as_deref().is_some_and(|bytes| !bytes.is_empty())));
        let mut one = About::default();
        for reference in told.references.unwrap_or_default() {
            if is_property(&reference) {
                let known = Property::of(reference.browse_name.name.as_ref());
                one.properties.extend(known.map(|p| (p, reference.node_id.node_id.clone())));
            } else if !is_recording(&reference) {
                one.branch = true;
            }
        }
        about.push(one);
    }
    server.forget(open).await;
    const OWN: [AttributeId; 5] = [
        AttributeId::Value,
        AttributeId::DataType,
        AttributeId::UserAccessLevel,
        AttributeId::Description,
        AttributeId::ValueRank,
    ];
    const OF_METHOD: [AttributeId; 2] = [AttributeId::UserExecutable, AttributeId::Description];
    let mut asked = Vec::new();
    for (reference, about) in told_of.iter().zip(&about) {
        let own = if reference.node_class == NodeClass::Method { OF_METHOD.as_slice() } else { OWN.as_slice() };
        asked.extend(own.iter().map(|a| attribute(&reference.node_id.node_id, *a)));
        asked.extend(about.properties.iter().map(|(_, property)| attribute(property, AttributeId::Value)));
    }
    let told = server.read(&asked).await?;
    learn(server, told.iter().flat_map(encodings).collect()).await?;
    let mut told = told.into_iter();
    let mut about = about.into_iter();
    let mut nodes = Vec::with_capacity(found.len());
    for reference in found {
        let id = NodeText::of(&reference.node_id.node_id, namespaces).to_string();
        let named = [reference.display_name.text.as_ref(), reference.browse_name.name.as_ref()];
        let name = short(named.into_iter().find(|n| !n.is_empty()).unwrap_or(&id));
        let mut node = Node { id: id.clone(), name, ..Node::default() };
        if reference.node_class == NodeClass::Object {
            node.branch = true;
            if let Some(name) = types.get(&reference.type_definition.node_id) {
                node.about = name.clone();
                node.of_type = NodeText::of(&reference.type_definition.node_id, namespaces).to_string();
            }
        } else if reference.node_class == NodeClass::Method
            && let Some(about) = about.next()
        {
            let own: Vec<DataValue> = told.by_ref().take(OF_METHOD.len()).collect();
            let inputs = about.properties.iter().map(|(p, _)| *p).zip(told.by_ref()).find(|(p, _)| *p == Property::Inputs);
            let inputs = method::arguments(inputs.as_ref().and_then(|(_, told)| told.value.as_ref()));
            called(&mut node, above, &own, &inputs);
        } else if let Some(about) = about.next() {
            let own: Vec<DataValue> = told.by_ref().take(OWN.len()).collect();
            let properties: Vec<_> = about.properties.iter().map(|(p, _)| *p).zip(told.by_ref()).collect();
            variable(&mut node, &id, &about, &own, &properties, (namespaces, &server.shapes));
        }
        nodes.push(node);
    }
    Ok(nodes)
}

/// The types of objects that are more than folders, with their names.
async fn types_of(server: &Server, found: &[ReferenceDescription]) -> Result<HashMap<NodeId, String>, LinkError> {
    let plain = [NodeId::null(), ObjectTypeId::BaseObjectType.into(), ObjectTypeId::FolderType.into()];
    let objects = found.iter().filter(|r| r.node_class == NodeClass::Object && r.type_definition.server_index == 0);
    let types: HashSet<NodeId> = objects.map(|r| r.type_definition.node_id.clone()).filter(|id| !plain.contains(id)).collect();
    let types: Vec<NodeId> = types.into_iter().collect();
    let asked: Vec<_> = types.iter().map(|id| attribute(id, AttributeId::DisplayName)).collect();
    let named = types.into_iter().zip(server.read(&asked).await?).filter_map(|(id, told)| match told.value {
        Some(Variant::LocalizedText(name)) => Some((id, short(name.text.as_ref()))),
        _ => None,
    });
    Ok(named.collect())
}

/// A method: a tag of it calls it.
fn called(node: &mut Node, above: &str, own: &[DataValue], inputs: &[Argument]) {
    let [executable, description] = own else { return };
    let words = method::in_words(inputs);
    node.about = if words.is_empty() { "method".into() } else { format!("method ({words})") };
    node.writable = executable.value != Some(Variant::Boolean(false));
    if let Some(Variant::LocalizedText(text)) = &description.value {
        node.description = short(text.text.as_ref());
    }
    let held = match inputs {
        [] => "bool",
        [one] => kind_of(&one.data_type),
        _ => "text",
    };
    let mut point = object(json!({"address": above, "method": node.id}));
    point.extend(
        [("arguments", words.as_str()), ("type", held)]
            .into_iter()
            .filter(|(_, v)| !v.is_empty())
            .map(|(k, v)| (k.into(), v.into())),
    );
    node.point = Some(point);
    if !node.writable {
        node.refused = "The login may not call it.".into();
    }
}

/// What a tag holds of a standard type, as a point says it; empty for others.
fn kind_of(data_type: &NodeId) -> &'static str {
    match (data_type.namespace, data_type.as_u32()) {
        (0, Some(1)) => "bool",
        (0, Some(2..=9 | 27 | 28)) => "i64",
        (0, Some(10 | 11 | 290)) => "f64",
        (0, Some(12 | 21)) => "text",
        _ => "",
    }
}

fn variable(
    node: &mut Node,
    id: &str,
    about: &About,
    own: &[DataValue],
    properties: &[(Property, DataValue)],
    (namespaces, shapes): (&NamespaceMap, &Shapes),
) {
    let [held, data_type, access, description, rank] = own else { return };
    node.branch = about.branch;
    let mut point = object(json!({"address": id}));
    let is_one = !matches!(held.value, Some(Variant::Array(_)));
    if let Some(Variant::NodeId(data_type)) = &data_type.value
        && let kind = kind_of(data_type)
        && is_one
        && !kind.is_empty()
    {
        point.insert("type".into(), kind.into());
    }
    node.point = Some(point);
    let rank = match rank.value {
        Some(Variant::Int32(rank)) => rank,
        _ => -1,
    };
    let access = match access.value {
        Some(Variant::Byte(bits)) => bits,
        _ => 1,
    };
    node.about = type_of(data_type, held, rank, namespaces);
    node.writable = access & 2 != 0;
    if let Some(Variant::LocalizedText(text)) = &description.value {
        node.description = short(text.text.as_ref());
    }
    let code = held.status.unwrap_or(StatusCode::Good);
    node.branch |= held.value.as_ref().is_some_and(|held| is_divided(held, shapes));
    match held.value.as_ref().map(|v| Part::default().value(v, shapes)) {
        _ if access & 1 == 0 => node.refused = "The login may not read it.".into(),
        Some(Ok(v)) => node.readings.push(Reading { point: Own::new(), text: v.text() }),
        Some(Err(reason)) if !code.is_bad() => node.refused = sentence(reason.words()),
        _ => node.refused = sentence(status::quality(code).reason().words()),
    }
    node.set = about_value(properties);
    node.states = states(properties);
}

/// A text of the server, as much of it as is of use to people.
fn short(text: &str) -> String {
    text.chars().take(MOST_NAME).collect()
}

fn sentence(words: &str) -> String {
    let mut letters = words.chars();
    letters.next().map_or_else(String::new, |first| format!("{}{}.", first.to_uppercase(), letters.as_str()))
}

/// Settings that a tag of this variable begins with.
fn about_value(properties: &[(Property, DataValue)]) -> Own {
    let mut set = Own::new();
    for (property, told) in properties {
        match (property, &told.value) {
            (Property::Unit, Some(Variant::ExtensionObject(held))) => {
                if let Some(unit) = held.inner_as::<EUInformation>().map(unit_of).filter(|u| !u.is_empty()) {
                    set.insert("unit".into(), unit.into());
                }
            }
            (Property::Range, Some(Variant::ExtensionObject(held))) => {
                let range = held.inner_as::<EuRange>().filter(|r| r.low.is_finite() && r.high.is_finite() && r.low < r.high);
                if let Some(range) = range {
                    set.insert("range_low".into(), json!(range.low));
                    set.insert("range_high".into(), json!(range.high));
                }
            }
            // Digits after the point, for floats (Part 8, 5.3.2.2).
            (Property::Precision, Some(Variant::Double(digits))) if (0.0..=9.0).contains(digits) => {
                set.insert("decimals".into(), json!(digits.round() as u8));
            }
            _ => {}
        }
    }
    set
}

/// The engineering unit as it is printed: found by its UN/CEFACT code (Part 8, 5.6.3.3), else as the server writes it.
fn unit_of(told: &EUInformation) -> String {
    let code: String = told.unit_id.to_be_bytes().into_iter().filter(|b| *b != 0).map(char::from).collect();
    let shown = told.display_name.text.as_ref().trim();
    let known = [code.as_str(), shown].into_iter().filter(|text| !text.is_empty()).find_map(unit::find);
    known.map_or_else(|| shown.chars().take(20).collect(), |unit| unit.symbol.to_owned())
}

/// The names of the states that a value has (Part 8, 5.3.3).
fn states(properties: &[(Property, DataValue)]) -> Vec<State> {
    let text = |v: &Variant| value::value(v).ok().and_then(|v| v.to_json().as_str().map(short));
    let mut all: Vec<State> = Vec::new();
    for (property, told) in properties {
        match (property, &told.value) {
            (Property::EnumStrings, Some(Variant::Array(names))) => {
                let named = names.values.iter().zip(0..).filter_map(|(v, value)| Some(State { value, name: text(v)? }));
                all.extend(named.take(MOST_STATES));
            }
            (Property::EnumValues, Some(Variant::Array(values))) => {
                for held in values.values.iter().take(MOST_STATES) {
                    let Variant::ExtensionObject(held) = held else { continue };
                    let one = held.inner_as::<opcua::types::EnumValueType>();
                    all.extend(one.map(|one| State { value: one.value, name: short(one.display_name.text.as_ref()) }));
                }
            }
            (Property::TrueState | Property::FalseState, Some(Variant::LocalizedText(text))) => {
                let value = i64::from(*property == Property::TrueState);
                all.push(State { value, name: short(text.text.as_ref()) });
            }
            _ => {}
        }
    }
    all.retain(|state| !state.name.trim().is_empty());
    all.sort_by_key(|state| state.value);
    all.dedup_by_key(|state| state.value);
    all
}

/// A type in a few words.
fn type_of(told: &DataValue, held: &DataValue, rank: i32, namespaces: &NamespaceMap) -> String {
    let name = match &told.value {
        Some(Variant::NodeId(id)) => match id.as_ref() {
            id if id.namespace == 0 => standard_type(id),
            // A type of the server's own: what it is made of is told by the value.
            id => held.value.as_ref().map(|v| match v.scalar_type_id() {
                Some(VariantScalarTypeId::ExtensionObject) => "structure".into(),
                Some(known) => format!("{known:?}"),
                None => NodeText::of(id, namespaces).to_string(),
            }),
        },
        _ => None,
    };
    let name = name.unwrap_or_else(|| "unknown type".into());
    if rank >= 1 || matches!(held.value, Some(Variant::Array(_))) { format!("{name}, array") } else { name }
}

fn object(json: Json) -> Own {
    json.as_object().cloned().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use opcua::types::Array;
    use rstest::rstest;

    #[rstest]
    #[case(0..1000, 1000, "[0]", true)]
    #[case(2000..3000, 500, "[2000]", false)]
    #[case(1500..2500, 1000, "[1500]", false)]
    fn the_elements_of_an_array_come_in_pages(
        #[case] within: Range<usize>,
        #[case] count: usize,
        #[case] first: &str,
        #[case] more: bool,
    ) {
        let values: Vec<Variant> = (0..2500).map(Variant::Int32).collect();
        let held = Variant::from(Array::new(VariantScalarTypeId::Int32, values).unwrap());
        let (nodes, followed) = in_value("i=7", &Part::default(), Some(&held), within, &Shapes::default());
        assert_eq!((nodes.len(), nodes[0].name.as_str(), followed), (count, first, more));
    }
}
