//! The address space of the server: folders, objects with their types, variables with their properties, and a method.

use super::{
    nodes::{Held, Node},
    types,
};
use crate::serve::Shared;
use havrel_core::unit;
use opcua::{
    nodes::{AccessLevel, MethodBuilder, ObjectBuilder, VariableBuilder},
    server::address_space::AddressSpace,
    types::{
        Argument, DataTypeId, EUInformation, ExtensionObject, LocalizedText, NodeId, ObjectId, Range, VariableTypeId, Variant,
    },
};
use std::collections::HashSet;

pub fn variant(held: &Held, index: u16) -> Variant {
    match held {
        Held::Double(v) => Variant::Double(*v),
        Held::Float(v) => Variant::Float(*v),
        Held::UInt32(v) => Variant::UInt32(*v),
        Held::UInt64(v) => Variant::UInt64(*v),
        Held::Boolean(v) => Variant::Boolean(*v),
        Held::Text(v) => Variant::from(v.as_str()),
        Held::State(v) => Variant::Int32(*v),
        Held::Doubles(v) => Variant::from(v.clone()),
        Held::Pallet(pallet) => pallet.variant(index),
    }
}

fn data_type(held: &Held, index: u16) -> NodeId {
    let standard = match held {
        Held::Double(_) | Held::Doubles(_) => DataTypeId::Double,
        Held::Float(_) => DataTypeId::Float,
        Held::UInt32(_) => DataTypeId::UInt32,
        Held::UInt64(_) => DataTypeId::UInt64,
        Held::Boolean(_) => DataTypeId::Boolean,
        Held::Text(_) => DataTypeId::String,
        Held::State(_) => DataTypeId::Int32,
        Held::Pallet(_) => return types::pallet(index),
    };
    standard.into()
}

/// The number of a unit: the characters of its UN/CEFACT common code (OPC UA Part 8, 5.6.3.3).
fn unit_of(symbol: &str) -> EUInformation {
    let known = unit::find(symbol);
    let code = known.map_or("", |u| u.common);
    EUInformation {
        namespace_uri: "http://www.opcfoundation.org/UA/units/un/cefact".into(),
        unit_id: code.bytes().fold(0, |number, byte| number << 8 | i32::from(byte)),
        display_name: symbol.into(),
        description: known.map_or(symbol, |u| u.name).into(),
    }
}

/// Puts folders, types, variables and the method into the address space.
pub fn build(space: &mut AddressSpace, index: u16, nodes: &[Node], shared: &Shared) {
    types::define(space, index);
    let works = shared.lock();
    let mut places = HashSet::new();
    for node in nodes {
        let mut above = NodeId::from(ObjectId::ObjectsFolder);
        let mut path = String::new();
        for name in node.place.split('/') {
            path = if path.is_empty() { name.to_owned() } else { format!("{path}/{name}") };
            let id = NodeId::new(index, path.replace(' ', "").replace('/', "."));
            if places.insert(path.clone()) {
                ObjectBuilder::new(&id, name, name)
                    .has_type_definition(types::of_object(space, index, name))
                    .organized_by(above)
                    .insert(space);
            }
            above = id;
        }
        let held = (node.read)(&works.process.dryline);
        let id = NodeId::new(index, node.id());
        let kind = match (&held, node.states.is_empty()) {
            (Held::Boolean(_), _) => VariableTypeId::TwoStateDiscreteType,
            (Held::State(_), false) => VariableTypeId::MultiStateDiscreteType,
            _ if node.range.is_some() => VariableTypeId::AnalogItemType,
            _ => VariableTypeId::BaseDataVariableType,
        };
        let mut variable = VariableBuilder::new(&id, node.name, node.name)
            .data_type(data_type(&held, index))
            .value(variant(&held, index))
            .description(node.note)
            .has_type_definition(kind)
            .component_of(above);
        if let Held::Doubles(values) = &held {
            variable = variable.value_rank(1).array_dimensions(&[values.len() as u32]);
        }
        if node.write.is_some() {
            variable = variable.writable();
        }
        if node.recorded {
            let readable = AccessLevel::CURRENT_READ | AccessLevel::HISTORY_READ;
            variable = variable.historizing(true).access_level(readable).user_access_level(readable);
        }
        variable.insert(space);
        properties(space, index, node, &id);
    }
    let machine = NodeId::new(index, "Packing.Baggingmachine");
    let argument =
        |name: &str| Argument { name: name.into(), data_type: DataTypeId::UInt32.into(), value_rank: -1, ..Argument::default() };
    let method = reset(index);
    MethodBuilder::new(&method, "Reset counter", "Reset counter")
        .description("Counts bags anew from a number. Gives the number before.")
        .executable(true)
        .user_executable(true)
        .component_of(machine)
        .input_args(space, &NodeId::new(index, "Packing.Baggingmachine.Resetcounter.In"), &[argument("From")])
        .output_args(space, &NodeId::new(index, "Packing.Baggingmachine.Resetcounter.Out"), &[argument("Before")])
        .insert(space);
}

/// The method that resets the counter of the bagging machine.
pub fn reset(index: u16) -> NodeId {
    NodeId::new(index, "Packing.Baggingmachine.Resetcounter")
}

fn properties(space: &mut AddressSpace, index: u16, node: &Node, of: &NodeId) {
    let mut add = |name: &str, kind: DataTypeId, value: Variant| {
        let id = NodeId::new(index, format!("{}.{name}", node.id()));
        let rank = if matches!(value, Variant::Array(_)) { 1 } else { -1 };
        VariableBuilder::new(&id, name, name)
            .data_type(kind)
            .value(value)
            .value_rank(rank)
            .has_type_definition(VariableTypeId::PropertyType)
            .property_of(of.clone())
            .insert(space);
    };
    if let Some((low, high)) = node.range {
        add("EURange", DataTypeId::Range, Variant::from(ExtensionObject::from_message(Range { low, high })));
    }
    if !node.unit.is_empty() {
        add("EngineeringUnits", DataTypeId::EUInformation, Variant::from(ExtensionObject::from_message(unit_of(node.unit))));
        add("ValuePrecision", DataTypeId::Double, Variant::Double(node.decimals.into()));
    }
    if !node.states.is_empty() {
        let names: Vec<LocalizedText> = node.states.iter().map(|name| LocalizedText::from(*name)).collect();
        add("EnumStrings", DataTypeId::LocalizedText, Variant::from(names));
    }
    if let Some((off, on)) = node.switch {
        add("FalseState", DataTypeId::LocalizedText, Variant::from(LocalizedText::from(off)));
        add("TrueState", DataTypeId::LocalizedText, Variant::from(LocalizedText::from(on)));
    }
}
