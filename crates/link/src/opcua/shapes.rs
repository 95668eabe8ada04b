//! What is known of the structures of a server.

use super::structure::{Content, Shape};
use havrel_core::quality::Reason;
use opcua::types::{
    Argument, ByteStringBody, ContextOwned, DataValue, DecodingOptions, EUInformation, EnumValueType, ExtensionObject,
    NamespaceMap, NodeId, Range, Variant,
};
use std::{
    collections::HashMap,
    sync::{Arc, PoisonError, RwLock},
};

/// Most types of one server.
const MOST: usize = 500;

/// The types of structures that are known, by the id of their encoding; none where it cannot be read.
#[derive(Debug, Default)]
pub struct Shapes(RwLock<HashMap<NodeId, Option<Arc<Shape>>>>);

/// The id of the encoding of a structure; none for an empty one.
fn encoding(object: &ExtensionObject) -> Option<NodeId> {
    match object.inner_as::<ByteStringBody>() {
        Some(body) => Some(body.encoding_id().clone()),
        None => Some(object.binary_type_id().node_id).filter(|id| !id.is_null()),
    }
}

/// The bytes of a structure: as they came, or as they came to be where the library knows the type.
fn bytes(object: &ExtensionObject) -> Option<Vec<u8>> {
    if let Some(body) = object.inner_as::<ByteStringBody>() {
        return body.raw_body().value.clone();
    }
    let context = ContextOwned::new_default(NamespaceMap::new(), DecodingOptions::default());
    let mut bytes = Vec::new();
    object.body.as_ref()?.encode_binary(&mut bytes, &context.context()).ok()?;
    Some(bytes)
}

/// Whether it says how a value is meant, which is read elsewhere.
fn is_property(object: &ExtensionObject) -> bool {
    object.inner_is::<Range>()
        || object.inner_is::<EUInformation>()
        || object.inner_is::<EnumValueType>()
        || object.inner_is::<Argument>()
}

/// The types of the structures in a value.
pub fn encodings(data: &DataValue) -> impl Iterator<Item = NodeId> {
    let values = match &data.value {
        Some(Variant::Array(array)) => array.values.as_slice(),
        Some(one) => std::slice::from_ref(one),
        None => &[],
    };
    values.iter().filter_map(|value| match value {
        Variant::ExtensionObject(object) if !is_property(object) => encoding(object),
        _ => None,
    })
}

impl Shapes {
    /// What a structure is made of.
    ///
    /// # Errors
    /// When its type is not known, or it is not one of that type.
    pub fn decode(&self, object: &ExtensionObject) -> Result<Content, Reason> {
        let encoding = encoding(object).ok_or(Reason::NoSuchType)?;
        let known = self.0.read().unwrap_or_else(PoisonError::into_inner).get(&encoding).cloned().flatten();
        known.ok_or(Reason::NoSuchType)?.decode(&bytes(object).unwrap_or_default())
    }

    /// Whether a value holds structures of a type that was not asked for yet.
    pub fn lacks_any(&self, data: &DataValue) -> bool {
        encodings(data).any(|encoding| self.lacks(&encoding))
    }

    /// Whether a type was not asked for yet.
    pub fn lacks(&self, encoding: &NodeId) -> bool {
        let known = self.0.read().unwrap_or_else(PoisonError::into_inner);
        known.len() < MOST && !known.contains_key(encoding)
    }

    /// Keeps what a type is; none where it cannot be read.
    pub fn put(&self, encoding: NodeId, shape: Option<Arc<Shape>>) {
        self.0.write().unwrap_or_else(PoisonError::into_inner).insert(encoding, shape);
    }
}
