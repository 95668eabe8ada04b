//! Sparkplug B (Eclipse Sparkplug 3.0): edge nodes that announce themselves, their devices and metrics through a broker.
//!
//! What travels is [`havrel_sparkplug`]'s. [`entity`] keeps what an edge node or a device announced, [`host`] hears all of them in
//! the order in which they speak, and [`rule`] makes tags of what is born. All of these are pure. [`look`] shows what is known as a tree, [`ladder`] tests a connection and [`run`] keeps it alive.
//! [`edge`] is the other side: Havrel as an edge node.

pub mod edge;
pub mod entity;
mod form;
mod host;
mod ladder;
mod look;
mod rule;
mod run;
pub mod settings;
#[cfg(test)]
mod tests;

use crate::{
    Identities, Kind, Runner, Tester, Wrong,
    kind::{Description, within},
    runner::Ports,
    test::TestStep,
};
use async_trait::async_trait;
use havrel_core::plant::{Connection, Own, Tag};
use settings::{HostSettings, Point, Settings};
use std::sync::Arc;
use tokio::sync::mpsc;

/// The connection kind.
pub const KIND: &str = "sparkplug";

/// A host application of Sparkplug B as a kind of connection.
#[derive(Clone, Copy)]
pub struct Sparkplug;

impl Kind for Sparkplug {
    fn name(&self) -> &'static str {
        KIND
    }

    fn describe(&self) -> Description {
        form::describe()
    }

    fn check(&self, connection: &Connection) -> Vec<Wrong> {
        let mut wrong = within("settings", Settings::<HostSettings>::parse(&connection.settings).err().unwrap_or_default());
        wrong.extend(rule::check(&connection.mappings));
        wrong
    }

    fn check_point(&self, _: &Connection, tag: &Tag) -> Vec<Wrong> {
        within("point", Point::parse(&tag.point).err())
    }

    fn show_point(&self, _: &Connection, point: &Own) -> Option<String> {
        Point::parse(point).ok().map(|point| point.show())
    }

    fn addresses(&self, connection: &Connection) -> Vec<String> {
        Settings::<HostSettings>::parse(&connection.settings).map(|settings| settings.addresses()).unwrap_or_default()
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(Sparkplug)
    }

    fn tester(&self) -> Option<&dyn Tester> {
        Some(self)
    }
}

#[async_trait]
impl Tester for Sparkplug {
    async fn test(&self, connection: &Connection, _: Arc<dyn Identities>, steps: mpsc::Sender<TestStep>) {
        ladder::climb_all(connection, steps).await;
    }
}

#[async_trait]
impl Runner for Sparkplug {
    async fn run(&self, ports: Ports) {
        run::run(ports).await;
    }
}
