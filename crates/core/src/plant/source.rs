//! Where a tag is read: its own address, or a member of a block.

use super::{Block, Connection, Member, Own, Plant, Tag, layout::DEEPEST};
use crate::scale::Scaling;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use uuid::Uuid;

/// Where in a block a tag is read: its `point`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BlockPoint {
    pub block: Uuid,
    /// Which instance, from 0.
    #[serde(default)]
    pub index: u32,
    /// From the outside in: member, and which element of it, from 0.
    pub member: Vec<(Uuid, u32)>,
}

/// Where a tag is read, with block and layout worked out.
#[derive(Clone, Debug, PartialEq)]
pub struct Source<'a> {
    /// The driver's own fields.
    pub point: Cow<'a, Own>,
    /// The tag's own scaling, or its member's.
    pub scaling: Option<Scaling>,
}

impl Plant {
    /// Where a tag is read in its connection.
    ///
    /// # Errors
    /// Field of the point and sentence, where it names a block, an instance or a member that is not there.
    pub fn source<'a>(&self, connection: &Connection, tag: &'a Tag) -> Result<Source<'a>, (String, String)> {
        if !tag.point.contains_key("block") {
            return Ok(Source { point: Cow::Borrowed(&tag.point), scaling: tag.scaling });
        }
        let at: BlockPoint = super::resolve(None, &tag.point)?;
        let wrong = |field: &str, words: &str| (field.to_owned(), words.to_owned());
        let block = connection.blocks.iter().find(|b| b.id == at.block);
        let block = block.ok_or_else(|| wrong("block", "The connection has no such block any more."))?;
        if at.index >= block.count {
            return Err(wrong("index", &format!("The block “{}” has {} instances.", block.name, block.count)));
        }
        let gone = || wrong("member", "The layout has no such member any more.");
        let mut layout = block.layout;
        let mut offset = at.index.saturating_mul(block.stride);
        let (last, outer) = at.member.split_last().filter(|_| at.member.len() <= DEEPEST).ok_or_else(gone)?;
        let step = |layout: Uuid, (id, element): (Uuid, u32), offset: &mut u32| {
            let member = self.layouts.get(&layout)?.set.members.iter().find(|m| m.id == id && element < m.count)?;
            *offset = offset.saturating_add(member.offset).saturating_add(element.saturating_mul(member.stride));
            Some(member)
        };
        for &outer in outer {
            layout = step(layout, outer, &mut offset).and_then(|m| m.layout).ok_or_else(gone)?;
        }
        let member = step(layout, *last, &mut offset).filter(|m| m.layout.is_none()).ok_or_else(gone)?;
        Ok(Source { point: Cow::Owned(block.place(member, offset)), scaling: tag.scaling.or(member.scaling) })
    }
}

impl Block {
    /// The driver's fields of a member that begins `offset` addresses beyond the block.
    pub fn place(&self, member: &Member, offset: u32) -> Own {
        let mut point = self.point.clone();
        point.extend(member.point.iter().map(|(k, v)| (k.clone(), v.clone())));
        let before = self.point.get("offset").and_then(serde_json::Value::as_u64).unwrap_or(0);
        point.insert("offset".into(), (before + u64::from(offset)).into());
        point
    }
}
