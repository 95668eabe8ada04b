//! Whether a broker of our own could be run: its program, its folder, the address and each port.

use super::{
    child::{Home, addresses, listens, try_port},
    settings::Settings,
};
use crate::{LinkError, test::Rungs};
use std::{path::Path, time::Instant};

/// A name that no broker has.
const NOBODY: &str = "test";

/// Climbs the rungs; nothing is started.
pub(super) async fn climb(settings: &Settings, data: &Path, rungs: &Rungs) -> Option<()> {
    let began = Instant::now();
    let home = Home::of(data, NOBODY);
    let told = home.as_ref().map_err(Clone::clone).and_then(Home::version).map(|version| ((), version));
    rungs.rung("Program", "Debian’s package mosquitto, and a folder for it".into(), began, told).await?;
    let began = Instant::now();
    let (tried, found) = match settings.bound() {
        None => {
            let found: Vec<String> = addresses().iter().map(ToString::to_string).collect();
            let words = if found.is_empty() { "this machine has no network at present".into() } else { found.join(", ") };
            ("all addresses of this machine".to_owned(), Ok(((), words)))
        }
        Some(address) => {
            let has = address.is_loopback() || addresses().contains(&address);
            let found =
                if has { Ok(((), "this machine has it".into())) } else { Err(LinkError::NoSuchNetwork(address.to_string())) };
            (address.to_string(), found)
        }
    };
    rungs.rung("Address", tried, began, found).await?;
    for listener in settings.listeners() {
        let began = Instant::now();
        let found = match try_port(settings.bound(), listener.port) {
            Err(LinkError::PortTaken(port)) if listens(data, port) => Ok(((), "a broker that Havrel runs has it already".into())),
            other => other.map(|()| ((), "free".into())),
        };
        rungs.rung("Port", format!("listen on {}", listener.port), began, found).await?;
    }
    Some(())
}
