//! Sources of values behind a few narrow traits: one folder for each protocol, pure codecs beside the sockets.
//!
//! A [`Kind`] says what a kind of connection is without asking any device; its [`Runner`] runs one task per connection, its
//! [`Tester`] climbs a test, its [`Spaces`] know the linear address spaces of a device. Whatever a device does (nothing,
//! nonsense, half an answer) becomes a quality and a sentence, never a panic.

pub mod announced;
pub mod broker;
pub mod browse;
pub mod certificate;
pub mod error;
pub mod form;
pub mod health;
pub mod http;
pub mod identity;
pub mod kind;
mod life;
pub mod modbus;
pub mod mqtt;
mod net;
pub mod notify;
pub mod opcua;
mod opened;
pub mod payload;
mod payload_form;
pub mod plain;
pub mod pointer;
pub mod runner;
pub mod served;
pub mod signal;
pub mod spaces;
pub mod sparkplug;
pub mod test;
#[cfg(test)]
mod test_certificates;
pub mod tls;
pub mod traffic;
mod unserved;

pub use browse::{Ask, Children, Node, Reading, State};
pub use error::{LinkError, Offer};
pub use health::{Health, LinkState};
pub use identity::{Identities, Identity};
pub use kind::{Kind, Wrong};
pub use runner::{Announcer, Command, LinkPlan, NothingLeaves, Outgoing, PointPlan, Ports, RawValue, Received, Runner};
pub use spaces::{Occupied, OtherReading, Spaces};
pub use test::{TestStep, Tester};

use havrel_core::{
    plant::{Carrier, Connection, Own, Tag},
    time::Nanos,
};
use std::{
    sync::Arc,
    time::{SystemTime, UNIX_EPOCH},
};

/// Every kind of connection, in the order in which they are offered.
pub fn kinds() -> [&'static dyn Kind; 14] {
    use plain::Plain;
    use sparkplug::{Sparkplug, edge::EdgeNode};
    [
        &modbus::Modbus,
        &opcua::OpcUa,
        &mqtt::Mqtt,
        &Sparkplug,
        &EdgeNode,
        &broker::Broker,
        &http::Http,
        &Plain::PUSH,
        &Plain::MEMORY,
        &signal::Signals,
        &Plain::FIGURES,
        &notify::mail::Mail,
        &notify::hook::Hook,
        &notify::folder::Folder,
    ]
}

/// The kind with this name.
pub fn kind(name: &str) -> Option<&'static dyn Kind> {
    kinds().into_iter().find(|kind| kind.name() == name)
}

/// What runs connections of a kind; of a kind that this program does not know, one that says so.
pub fn runner(name: &str) -> Arc<dyn Runner> {
    kind(name).map_or_else(|| Arc::new(unserved::Unserved) as Arc<dyn Runner>, Kind::runner)
}

/// Whether a kind makes tags of what it meets.
fn maps(kind: &dyn Kind) -> bool {
    let can = kind.describe().can;
    can.listens || can.announces
}

/// Checks settings with the kinds, for the one door of the configuration.
pub struct Kinds;

impl havrel_core::plant::SourceCheck for Kinds {
    fn connection(&self, connection: &Connection) -> Vec<(String, String)> {
        match kind(&connection.kind) {
            Some(kind) if !connection.mappings.is_empty() && !maps(kind) => {
                vec![("mappings".into(), "Only a connection that hears messages has mappings.".into())]
            }
            Some(kind) => kind.check(connection),
            None => vec![("kind".into(), format!("There is no connection kind “{}”.", connection.kind))],
        }
    }

    fn point(&self, connection: &Connection, tag: &Tag) -> Vec<(String, String)> {
        kind(&connection.kind).map(|kind| kind.check_point(connection, tag)).unwrap_or_default()
    }

    fn publishes(&self, connection: &Connection) -> bool {
        kind(&connection.kind).is_some_and(|kind| kind.describe().can.publishes)
    }

    fn carries(&self, connection: &Connection, carrier: Carrier) -> bool {
        kind(&connection.kind).map(|kind| kind.describe().can).is_some_and(|can| match carrier {
            Carrier::Mail => can.mails,
            Carrier::Hook => can.hooks,
            Carrier::Folder => can.files,
        })
    }

    fn metrics(&self, connection: &Connection) -> bool {
        kind(&connection.kind).is_some_and(|kind| kind.describe().can.metrics)
    }
}

impl havrel_core::plant::loop_check::Wire for Kinds {
    fn leads_to(&self, connection: &Connection) -> Option<String> {
        let kind = kind(&connection.kind)?;
        let outside = kind.tester().is_some() || kind.describe().can.tokens;
        outside.then(|| kind.addresses(connection).join(", "))
    }

    fn read_at(&self, connection: &Connection, point: &Own) -> String {
        kind(&connection.kind).and_then(|kind| kind.show_point(connection, point)).unwrap_or_default()
    }
}

/// The time of this machine.
pub fn now() -> Nanos {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| i64::try_from(d.as_nanos()).unwrap_or(i64::MAX))
}
