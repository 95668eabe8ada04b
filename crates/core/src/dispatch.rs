//! Reports on their way: what a dispatch set off, what was made of it, and what came of each delivery.

use crate::{
    notice::Tries,
    plant::{Delivery, Dispatch, Plant, Report},
    report::Format,
    time::Nanos,
};
use uuid::Uuid;

/// One report that a dispatch has made, with its deliveries. Its edition has the same identity.
#[derive(Clone, Debug, PartialEq)]
pub struct Run {
    pub id: Uuid,
    pub dispatch: Uuid,
    /// What the dispatch was called.
    pub name: String,
    pub report: Uuid,
    /// The instant that set it off: when it was due, or that of the event.
    pub at: Nanos,
    /// Who asked for it; empty where nobody did.
    pub by: String,
    /// What the report covers.
    pub from: Nanos,
    pub to: Nanos,
    /// How it went to make the edition.
    pub making: Tries,
    /// In the order of the dispatch.
    pub deliveries: Vec<Parcel>,
}

/// A report on its way to one folder, person or program.
#[derive(Clone, Debug, PartialEq)]
pub struct Parcel {
    pub id: Uuid,
    pub connection: Uuid,
    /// An address of e-mail; empty elsewhere.
    pub to: String,
    /// What its files are called, without their ending, as [`Delivery::file`] says.
    pub file: String,
    pub formats: Vec<Format>,
    pub tries: Tries,
    /// How much was sent, and how long that took.
    pub bytes: u64,
    pub took_ms: u64,
}

impl Run {
    /// What a dispatch sets off at an instant: the report over its period, and a parcel for each folder, address and program. None where
    /// there is no such period.
    pub fn of(
        plant: &Plant,
        id: Uuid,
        dispatch: &Dispatch,
        report: &Report,
        (at, now): (Nanos, Nanos),
        new: &mut dyn FnMut() -> Uuid,
    ) -> Option<Run> {
        let (from, to) = dispatch.period(at, report, plant.shifts_of_dispatch(dispatch))?;
        let parcel = |delivery: &Delivery, to: &str, id| Parcel {
            id,
            connection: delivery.connection,
            to: to.to_owned(),
            file: delivery.file.clone(),
            formats: delivery.formats.clone(),
            // It waits for the edition.
            tries: Tries::default(),
            bytes: 0,
            took_ms: 0,
        };
        let mut deliveries = Vec::new();
        for delivery in &dispatch.deliveries {
            if delivery.to.is_empty() {
                deliveries.push(parcel(delivery, "", new()));
            }
            deliveries.extend(delivery.to.iter().map(|to| parcel(delivery, to, new())));
        }
        Some(Run {
            id: new(),
            dispatch: id,
            name: dispatch.name.clone(),
            report: dispatch.report,
            at,
            by: String::new(),
            from,
            to,
            making: Tries::from(now),
            deliveries,
        })
    }
}
