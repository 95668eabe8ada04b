//! Looking at what a device holds: its four tables, and a page of one of them, each register in every reading that makes sense.

use super::{Address, Order, Settings, Shape, Table, Type, memory::Memory, session::Session};
use crate::{Ask, Children, LinkError, Node, Reading};
use havrel_core::plant::Own;
use serde_json::json;
use std::sync::{Mutex, MutexGuard, PoisonError};
use tokio::time::Instant;

/// Most registers of one page.
const MOST: usize = 250;
/// What nodes are made of.
const PARTS: [&str; 4] = ["table", "address", "manual number", "unit id"];

/// A table of a device: as a node `holding`, or `7/holding` where the device is not the connection's own.
#[derive(Clone, Copy)]
pub(super) struct Space {
    pub unit: u8,
    table: Table,
}

impl Space {
    pub fn of(node: &str, settings: &Settings) -> Option<Space> {
        let (unit, word) = match node.split_once('/') {
            Some((unit, word)) => (unit.parse().ok()?, word),
            None => (settings.unit, node),
        };
        Some(Space { unit, table: Table::from_word(word)? })
    }
}

fn tables() -> Children {
    let node = |table: &Table| Node { id: table.word().into(), name: table.title().into(), branch: true, ..Node::default() };
    Children {
        read_at: crate::now(),
        nodes: [Table::Holding, Table::Input, Table::Coil, Table::Discrete].iter().map(node).collect(),
        ..Children::default()
    }
}

/// Gives the tables of a device, or reads a page of one and shows each register in every reading.
pub(super) async fn look(
    session: &mut Session,
    settings: &Settings,
    ask: &Ask,
    memory: &Mutex<Memory>,
) -> Result<Children, LinkError> {
    if ask.node.is_empty() {
        return Ok(tables());
    }
    let wrong = |words: &str| LinkError::BadRequest(words.into());
    let space = Space::of(&ask.node, settings).ok_or_else(|| wrong("The tables are coil, discrete, input and holding."))?;
    let Space { unit, table } = space;
    let start = if ask.cursor.is_empty() { Ok(0) } else { ask.cursor.parse::<u16>() };
    let first = u32::from(start.map_err(|_| wrong("Addresses on the wire are 0 to 65535."))?);
    let count = (ask.most.clamp(1, MOST) as u32).min(65_536 - first);
    let limit = u32::from(if table.is_bits() { table.read_limit() } else { settings.limit });
    let at = |start: u32| Address { table, offset: start as u16 };
    let memory = || -> MutexGuard<'_, Memory> { memory.lock().unwrap_or_else(PoisonError::into_inner) };
    let pauses = |start: u32| memory().pauses(unit, at(start), 1, Instant::now());
    let mut words: Vec<Result<u16, LinkError>> = Vec::with_capacity(count as usize);
    // Spans still to be read, the next one last. What was refused by itself a moment ago is passed over.
    let mut open: Vec<(u32, u32)> = Vec::new();
    for start in first..first + count {
        match open.last_mut() {
            Some((from, span)) if *span < limit && pauses(start).is_none() && pauses(*from).is_none() => *span += 1,
            _ => open.push((start, 1)),
        }
    }
    open.reverse();
    // One address the device lacks spoils a whole request, so a refused span is halved until what is refused stands alone.
    while let Some((start, span)) = open.pop() {
        if let Some(error) = (span == 1).then(|| pauses(start)).flatten() {
            words.push(Err(error));
            continue;
        }
        match session.read(unit, at(start), span as u16).await {
            Ok(read) => {
                if span == 1 {
                    memory().found(unit, at(start), 1);
                }
                words.extend(read.into_iter().map(Ok));
            }
            Err(error) if !error.spares_connection() => return Err(error),
            Err(error) if span == 1 => {
                if error.lasts() {
                    memory().miss(unit, at(start), 1, error.clone(), Instant::now());
                }
                words.push(Err(error));
            }
            Err(_) => open.extend([(start + span / 2, span - span / 2), (start, span / 2)]),
        }
    }
    let own = unit == settings.unit;
    let nodes = (0..words.len()).map(|i| {
        let address = at(first + i as u32);
        let mut point = json!({"address": address.written(settings.base)});
        if !own {
            point["unit"] = unit.into();
        }
        let device = if own { String::new() } else { unit.to_string() };
        let mut node = Node {
            id: format!("{}/{}", ask.node, address.offset),
            name: if own { address.to_string() } else { format!("{address}, unit {unit}") },
            parts: vec![table.word().into(), address.offset.to_string(), address.manual(), device],
            point: Some(object(point)),
            ..Node::default()
        };
        match &words[i] {
            Err(error) => node.refused = error.to_string(),
            Ok(_) => node.readings = readings(table, i, &words),
        }
        node
    });
    let next = (first + count < 65_536).then(|| (first + count).to_string());
    Ok(Children { read_at: crate::now(), parts: PARTS.to_vec(), nodes: nodes.collect(), next })
}

fn object(json: serde_json::Value) -> Own {
    match json {
        serde_json::Value::Object(own) => own,
        _ => Own::new(),
    }
}

fn readings(table: Table, i: usize, words: &[Result<u16, LinkError>]) -> Vec<Reading> {
    let mut found = Vec::new();
    let kinds: &[Type] = if table.is_bits() {
        &[Type::Bool]
    } else {
        &[Type::U16, Type::I16, Type::U32, Type::I32, Type::F32, Type::U64, Type::I64, Type::F64, Type::Bcd, Type::Text]
    };
    for &kind in kinds {
        let orders = match kind {
            Type::Bool => &Order::ALL[..1],
            Type::U16 | Type::I16 | Type::Bcd | Type::Text => &[Order::Abcd, Order::Badc],
            Type::U64 | Type::I64 | Type::F64 => &Order::ALL[..],
            _ => Order::SHORT,
        };
        for &order in orders {
            let shape = Shape::of(kind, order);
            let part: Option<Vec<u16>> =
                words.get(i..i + usize::from(shape.width())).and_then(|w| w.iter().map(|r| r.clone().ok()).collect());
            let Some(Ok(value)) = part.map(|part| shape.decode(&part)) else { continue };
            let text = match value.to_json() {
                serde_json::Value::String(text) => text,
                other => other.to_string(),
            };
            found.push(Reading { point: object(json!({"type": kind.name(), "order": order.name()})), text });
        }
    }
    found
}
