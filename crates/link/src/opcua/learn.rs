//! Asking a server for the definitions of its structures (OPC UA Part 3, 5.8.3), when a value of theirs is first met.

use super::{
    server::{Server, attribute},
    structure::{DEEPEST, Kind, Layout, Member, Shape},
};
use crate::LinkError;
use opcua::types::{
    AttributeId, BrowseDescription, BrowseDirection, BrowseResultMaskFlags, DataTypeId, NodeClassMask, NodeId, ReferenceTypeId,
    StructureDefinition, StructureField, StructureType, Variant, VariantScalarTypeId,
};
use std::{collections::HashSet, sync::Arc};

/// Most members of a type, and longest name of one in bytes.
const MOST_MEMBERS: usize = 1000;
const MOST_NAME: usize = 500;
/// Most types that lie in one, at whatever depth, so that a server cannot keep us asking.
const MOST_WITHIN: usize = 200;
/// Furthest that a type is followed to the type that it is made of.
const MOST_STEPS: usize = 10;

/// Asks for the definitions of structures, named by their encodings, that were not met before.
///
/// # Errors
/// When the server does not answer.
pub(super) async fn learn(server: &Server, met: HashSet<NodeId>) -> Result<(), LinkError> {
    for encoding in met {
        if server.shapes.lacks(&encoding) {
            let shape = shape_of(server, &encoding).await?.map(Arc::new);
            server.shapes.put(encoding, shape);
        }
    }
    Ok(())
}

/// Where one reference leads from a node.
async fn follow(server: &Server, from: &NodeId, by: ReferenceTypeId, kind: NodeClassMask) -> Result<Option<NodeId>, LinkError> {
    let asked = BrowseDescription {
        node_id: from.clone(),
        browse_direction: BrowseDirection::Inverse,
        reference_type_id: by.into(),
        include_subtypes: false,
        node_class_mask: kind.bits(),
        result_mask: BrowseResultMaskFlags::all().bits(),
    };
    let told = server.browse(&[asked], 1).await?.into_iter().next().and_then(|told| told.references);
    Ok(told.and_then(|all| all.into_iter().next()).map(|reference| reference.node_id.node_id))
}

/// The type whose encoding this is; none where the server does not define it.
async fn shape_of(server: &Server, encoding: &NodeId) -> Result<Option<Shape>, LinkError> {
    match follow(server, encoding, ReferenceTypeId::HasEncoding, NodeClassMask::DATA_TYPE).await? {
        Some(of) => {
            let mut left = MOST_WITHIN;
            defined(server, of, Vec::new(), &mut left).await
        }
        None => Ok(None),
    }
}

/// The definition of a type; `outer` are the types that it lies in, `left` how many more may be asked for.
async fn defined(server: &Server, of: NodeId, mut outer: Vec<NodeId>, left: &mut usize) -> Result<Option<Shape>, LinkError> {
    if outer.len() >= DEEPEST || outer.contains(&of) || *left == 0 {
        return Ok(None);
    }
    *left -= 1;
    let told = server.read(&[attribute(&of, AttributeId::DataTypeDefinition)]).await?;
    let Some(Variant::ExtensionObject(held)) = &told[0].value else { return Ok(None) };
    let Some(told) = held.inner_as::<StructureDefinition>() else { return Ok(None) };
    let layout = match told.structure_type {
        StructureType::Structure => Layout::All,
        StructureType::StructureWithOptionalFields => Layout::Optional,
        StructureType::Union => Layout::Union,
        // Their members may be of a further type, which only the value tells.
        StructureType::StructureWithSubtypedValues | StructureType::UnionWithSubtypedValues => return Ok(None),
    };
    let fields = told.fields.as_deref().unwrap_or_default();
    let flat = |rank: i32| rank == 1 || rank < 1 && rank != 0;
    let usual = |field: &StructureField| flat(field.value_rank) && field.name.as_ref().len() <= MOST_NAME;
    if fields.len() > MOST_MEMBERS || !fields.iter().all(usual) {
        return Ok(None);
    }
    outer.push(of);
    let mut members = Vec::with_capacity(fields.len());
    for field in fields {
        let kind = match plain(server, &field.data_type).await? {
            Some(VariantScalarTypeId::ExtensionObject) => {
                match Box::pin(defined(server, field.data_type.clone(), outer.clone(), left)).await? {
                    Some(shape) => Kind::Structure(Arc::new(shape)),
                    None => return Ok(None),
                }
            }
            Some(kind) => Kind::Plain(kind),
            None => return Ok(None),
        };
        let (array, optional) = (field.value_rank == 1, field.is_optional);
        members.push(Member { name: field.name.as_ref().to_owned(), kind, array, optional });
    }
    Ok(Some(Shape { layout, members }))
}

/// The built-in type that values of a type are encoded as (Part 6, 5.1.2): its own, or that of the type above it.
pub(super) async fn plain(server: &Server, of: &NodeId) -> Result<Option<VariantScalarTypeId>, LinkError> {
    let mut at = of.clone();
    for _ in 0..MOST_STEPS {
        let standard = (at.namespace == 0).then(|| at.as_u32()).flatten();
        match standard {
            Some(number) if number == DataTypeId::Enumeration as u32 => return Ok(Some(VariantScalarTypeId::Int32)),
            // Structure is what has members; the numbers of the others are those of their encodings.
            Some(number) if number == DataTypeId::Structure as u32 => return Ok(Some(VariantScalarTypeId::ExtensionObject)),
            Some(number @ 1..=25) => return Ok(VariantScalarTypeId::try_from(number).ok()),
            _ => {}
        }
        match follow(server, &at, ReferenceTypeId::HasSubtype, NodeClassMask::DATA_TYPE).await? {
            Some(above) => at = above,
            None => return Ok(None),
        }
    }
    Ok(None)
}
