//! Types that the server defines itself: objects of which the plant has several, and a structure.

use opcua::{
    nodes::{DataTypeBuilder, ObjectBuilder, ObjectTypeBuilder},
    server::address_space::AddressSpace,
    types::{
        ByteString, ByteStringBody, DataTypeDefinition, DataTypeId, ExtensionObject, NodeId, ObjectTypeId, ReferenceTypeId,
        StructureDefinition, StructureField, StructureType, Variant,
    },
};

/// Bags that stand on the pallet.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Pallet {
    pub number: u32,
    pub grade: String,
    /// Number and weight, in kg, of each bag.
    pub bags: Vec<(u32, f64)>,
}

impl Pallet {
    /// As the server sends it (OPC UA Part 6, 5.2.6): the members one after the other.
    pub fn variant(&self, index: u16) -> Variant {
        let mut bytes = self.number.to_le_bytes().to_vec();
        bytes.extend((self.grade.len() as i32).to_le_bytes());
        bytes.extend(self.grade.as_bytes());
        bytes.extend((self.bags.len() as i32).to_le_bytes());
        for (number, weight) in &self.bags {
            bytes.extend(number.to_le_bytes());
            bytes.extend(weight.to_le_bytes());
        }
        let body = ByteStringBody::new(ByteString::from(bytes), NodeId::new(index, PALLET_ENCODING));
        Variant::from(ExtensionObject::new(body))
    }
}

const PALLET_ENCODING: &str = "Types.Pallet.Binary";

/// The type of a pallet.
pub fn pallet(index: u16) -> NodeId {
    NodeId::new(index, "Types.Pallet")
}

fn field(name: &str, data_type: impl Into<NodeId>, value_rank: i32) -> StructureField {
    StructureField { name: name.into(), data_type: data_type.into(), value_rank, ..StructureField::default() }
}

/// Puts the types of structures into the address space.
pub fn define(space: &mut AddressSpace, index: u16) {
    let bag = NodeId::new(index, "Types.Bag");
    let of_bag = vec![field("Number", DataTypeId::UInt32, -1), field("Weight", DataTypeId::Double, -1)];
    let of_pallet =
        vec![field("Number", DataTypeId::UInt32, -1), field("Grade", DataTypeId::String, -1), field("Bags", bag.clone(), 1)];
    let types = [("Bag", bag, "Types.Bag.Binary", of_bag), ("Pallet", pallet(index), PALLET_ENCODING, of_pallet)];
    for (name, id, encoding, fields) in types {
        let encoding = NodeId::new(index, encoding);
        let definition = StructureDefinition {
            default_encoding_id: encoding.clone(),
            base_data_type: DataTypeId::Structure.into(),
            structure_type: StructureType::Structure,
            fields: Some(fields),
        };
        DataTypeBuilder::new(&id, name, name)
            .subtype_of(DataTypeId::Structure)
            .data_type_definition(DataTypeDefinition::Structure(definition))
            .insert(space);
        ObjectBuilder::new(&encoding, "Default Binary", "Default Binary")
            .has_type_definition(ObjectTypeId::DataTypeEncodingType)
            .insert(space);
        space.insert_reference(&id, &encoding, ReferenceTypeId::HasEncoding);
    }
}

/// The type of an object: one of its own for zones and silos, which differ by number only.
pub fn of_object(space: &mut AddressSpace, index: u16, name: &str) -> NodeId {
    let Some((name, id)) = ["Zone", "Silo"].into_iter().find(|kind| name.starts_with(kind)).map(|kind| {
        let name = format!("{kind}Type");
        let id = NodeId::new(index, format!("Types.{name}"));
        (name, id)
    }) else {
        return ObjectTypeId::FolderType.into();
    };
    if space.find_node(&id).is_none() {
        ObjectTypeBuilder::new(&id, name.as_str(), name.as_str()).subtype_of(ObjectTypeId::BaseObjectType).insert(space);
    }
    id
}
