//! Looking at what a device holds: a page of one table, each register in every reading that makes sense.

use super::{Address, Order, Settings, Shape, Table, Type, memory::Memory, session::Session};
use crate::{Found, LinkError, Page, Reading};
use havrel_core::plant::{Own, resolve};
use serde::Deserialize;
use std::sync::{Mutex, MutexGuard, PoisonError};
use tokio::time::Instant;

/// What a look asks for.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Look {
    table: String,
    #[serde(default)]
    start: u16,
    #[serde(default = "page")]
    count: u16,
    #[serde(default)]
    unit: Option<u8>,
}

fn page() -> u16 {
    32
}

/// Reads a page of one table and shows each register in every reading.
pub(super) async fn look(
    session: &mut Session,
    settings: &Settings,
    request: &Own,
    memory: &Mutex<Memory>,
) -> Result<Page, LinkError> {
    let look: Look = resolve(None, request).map_err(|(field, m)| LinkError::BadRequest(format!("{field}: {m}")))?;
    let table = Table::from_word(&look.table)
        .ok_or_else(|| LinkError::BadRequest("The tables are coil, discrete, input and holding.".into()))?;
    let count = u32::from(look.count.clamp(1, 250)).min(65_536 - u32::from(look.start));
    let limit = u32::from(if table.is_bits() { table.read_limit() } else { settings.limit });
    let unit = look.unit.unwrap_or(settings.unit);
    let first = u32::from(look.start);
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
    let items = (0..words.len()).map(|i| found(table, look.start, i, &words)).collect();
    Ok(Page { read_at: crate::now(), items })
}

fn found(table: Table, start: u16, i: usize, words: &[Result<u16, LinkError>]) -> Found {
    let address = Address { table, offset: start + i as u16 };
    let mut found = Found { label: address.to_string(), manual: address.manual(), refused: String::new(), readings: Vec::new() };
    if let Err(error) = &words[i] {
        found.refused = error.to_string();
        return found;
    }
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
            found.readings.push(Reading { kind: kind.name(), order: order.name(), text });
        }
    }
    found
}
