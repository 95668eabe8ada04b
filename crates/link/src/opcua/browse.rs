//! The address space of a server as a tree of nodes, page by page: what lies below a node, with what its variables hold now and
//! what the server says of them (OPC UA Part 8: unit, range, state names).

use super::{
    node::Node as NodeText,
    server::{Server, attribute},
    status, value,
};
use crate::{Ask, Children, LinkError, Node, Reading, State, now};
use havrel_core::{
    plant::{Own, view::natural},
    unit,
};
use opcua::types::{
    AttributeId, BrowseDescription, BrowseDirection, BrowseResultMaskFlags, ByteString, DataTypeId, DataValue, EUInformation,
    NamespaceMap, NodeClass, NodeClassMask, NodeId, ObjectId, Range, ReferenceDescription, ReferenceTypeId, StatusCode, Variant,
};
use serde_json::{Value as Json, json};
use std::collections::HashSet;

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
        node_class_mask: (NodeClassMask::OBJECT | NodeClassMask::VARIABLE).bits(),
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
    let of_object;
    let told = if ask.cursor.is_empty() {
        let node = match ask.node.as_str() {
            "" => ObjectId::ObjectsFolder.into(),
            text => {
                let node: NodeText = text.parse().map_err(|words: &str| LinkError::BadRequest(words.to_owned()))?;
                node.id(namespaces).ok_or_else(|| status::error(StatusCode::BadNodeIdUnknown, server.timeout_ms))?
            }
        };
        let class = server.read(&[attribute(&node, AttributeId::NodeClass)]).await?;
        // Some servers give an empty page for a node that they do not have.
        if let Some(code) = class[0].status.filter(StatusCode::is_bad) {
            return Err(status::error(code, server.timeout_ms));
        }
        of_object = class[0].value != Some(Variant::Int32(NodeClass::Variable as i32));
        let mut told = server.browse(&[below(&node)], most).await?;
        told.pop().ok_or_else(|| LinkError::WrongAnswer("no page came".into()))?
    } else {
        let (kind, point) = ask.cursor.split_at_checked(1).unwrap_or_default();
        of_object = kind == "o";
        let point = ByteString::from_base64(point).filter(|_| kind == "o" || kind == "v");
        let point = point.ok_or_else(|| LinkError::BadRequest("Take the cursor from “next” of the page before.".into()))?;
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
    let mut nodes = describe(server, namespaces, found).await?;
    // Servers give them in any order.
    nodes.sort_by(|a, b| natural(&a.name, &b.name));
    let next = told.continuation_point.value.as_deref().filter(|point| !point.is_empty());
    let next = next.map(|_| format!("{}{}", if of_object { "o" } else { "v" }, told.continuation_point.as_base64()));
    Ok(Children { read_at: now(), parts: Vec::new(), nodes, next })
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
            _ => return None,
        })
    }
}

async fn describe(server: &Server, namespaces: &NamespaceMap, found: Vec<ReferenceDescription>) -> Result<Vec<Node>, LinkError> {
    let variables: Vec<NodeId> =
        found.iter().filter(|r| r.node_class == NodeClass::Variable).map(|r| r.node_id.node_id.clone()).collect();
    let asked: Vec<_> = variables.iter().map(below).collect();
    let mut open = Vec::new();
    let mut about = Vec::with_capacity(variables.len());
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
    let mut asked = Vec::new();
    for (node, about) in variables.iter().zip(&about) {
        asked.extend(OWN.map(|a| attribute(node, a)));
        asked.extend(about.properties.iter().map(|(_, property)| attribute(property, AttributeId::Value)));
    }
    let mut told = server.read(&asked).await?.into_iter();
    let mut about = about.into_iter();
    let mut nodes = Vec::with_capacity(found.len());
    for reference in found {
        let id = NodeText::of(&reference.node_id.node_id, namespaces).to_string();
        let named = [reference.display_name.text.as_ref(), reference.browse_name.name.as_ref()];
        let name = short(named.into_iter().find(|n| !n.is_empty()).unwrap_or(&id));
        let mut node = Node { id: id.clone(), name, ..Node::default() };
        if reference.node_class != NodeClass::Variable {
            node.branch = true;
        } else if let Some(about) = about.next() {
            let own: Vec<DataValue> = told.by_ref().take(OWN.len()).collect();
            let properties: Vec<_> = about.properties.iter().map(|(p, _)| *p).zip(told.by_ref()).collect();
            variable(&mut node, &id, &about, &own, &properties, namespaces);
        }
        nodes.push(node);
    }
    Ok(nodes)
}

fn variable(
    node: &mut Node,
    id: &str,
    about: &About,
    own: &[DataValue],
    properties: &[(Property, DataValue)],
    namespaces: &NamespaceMap,
) {
    let [held, data_type, access, description, rank] = own else { return };
    node.branch = about.branch;
    node.point = Some(object(json!({"address": id})));
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
    match held.value.as_ref().map(value::value) {
        _ if access & 1 == 0 => node.refused = "The login may not read it.".into(),
        Some(Ok(v)) => {
            let text = v.to_json();
            let text = text.as_str().map_or_else(|| text.to_string(), str::to_owned);
            node.readings.push(Reading { point: Own::new(), text });
        }
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
                let range = held.inner_as::<Range>().filter(|r| r.low.is_finite() && r.high.is_finite() && r.low < r.high);
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
            id if id.namespace == 0 => id.as_u32().and_then(|n| DataTypeId::try_from(n).ok()).map(|t| format!("{t:?}")),
            // A type of the server's own: what it is made of is told by the value.
            id => held.value.as_ref().map(|v| match v.scalar_type_id() {
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
