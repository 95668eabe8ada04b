//! The station on the wire: it is there while the host application is, and keeps what it measures otherwise.

use super::{GROUP, NODE, node::Node};
use crate::{faults::Fault, relay, serve::Shared};
use havrel_sparkplug::{
    payload::{MetricValue, Payload},
    topic,
};
use rumqttc::{AsyncClient, Event, EventLoop, LastWill, MqttOptions, Packet, QoS};
use std::{
    io,
    net::SocketAddr,
    time::{Duration, Instant, SystemTime, UNIX_EPOCH},
};
use tokio::{
    net::TcpListener,
    time::{MissedTickBehavior, interval, sleep},
};

/// The account with which the station publishes.
pub const USER: &str = "effluent";
pub const PASSWORD: &str = "down-at-the-shore";
/// The host application without which the station keeps what it measures.
pub const HOST: &str = "havrel";

/// How often it measures.
const BEAT: Duration = Duration::from_secs(1);
/// Of so many messages it loses one, where that is ordered.
const LOST_OF: u32 = 5;
/// The speeds that may be wanted, in 1/min.
const SPEEDS: std::ops::RangeInclusive<f64> = 600.0..=1800.0;

/// The station, and another one of the same name where that is ordered, for ever.
///
/// # Errors
/// When there is no port for the cable to the broker.
pub async fn serve(broker: SocketAddr, shared: Shared) -> io::Result<()> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let cable = listener.local_addr()?;
    let laid = async {
        loop {
            let (outside, _) = listener.accept().await?;
            tokio::spawn(relay::relay(outside, broker, Cable(shared.clone())));
        }
    };
    tokio::select! {
        failed = laid => failed,
        () = station(cable, &shared) => Ok(()),
        () = twin(broker, &shared) => Ok(()),
    }
}

/// The cable between the station and the broker.
struct Cable(Shared);

impl relay::Cable for Cable {
    fn cut(&self) -> bool {
        self.0.is_on(&Fault::StationCut)
    }

    fn slow(&self) -> bool {
        false
    }
}

async fn station(broker: SocketAddr, shared: &Shared) {
    let mut node = Node::new(0);
    loop {
        session(&mut node, "effluent-station", broker, shared, &|| true).await;
        node.bd = node.bd.wrapping_add(1);
    }
}

/// Another edge node that somebody gave the same name.
async fn twin(broker: SocketAddr, shared: &Shared) {
    let mut node = Node::new(100);
    loop {
        if shared.is_on(&Fault::StationTwin) {
            session(&mut node, "effluent-station-2", broker, shared, &|| shared.is_on(&Fault::StationTwin)).await;
        }
        sleep(BEAT).await;
    }
}

fn connected(node: &Node, id: &str, broker: SocketAddr) -> (AsyncClient, EventLoop) {
    let mut options = MqttOptions::new(id, broker.ip().to_string(), broker.port());
    options.set_credentials(USER, PASSWORD).set_keep_alive(Duration::from_secs(5)).set_clean_session(true);
    let (topic, death) = node.death();
    options.set_last_will(LastWill::new(topic, death, QoS::AtLeastOnce, false));
    AsyncClient::new(options, 1000)
}

/// One session, until it breaks, the host is gone or nobody wants it any more.
async fn session(node: &mut Node, id: &str, broker: SocketAddr, shared: &Shared, wanted: &(dyn Fn() -> bool + Sync)) {
    let (client, mut polled) = connected(node, id, broker);
    let mut beat = interval(BEAT);
    beat.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let (mut there, mut beats) = (false, 0_u32);
    let mut birthless = shared.is_on(&Fault::StationBirthless);
    loop {
        tokio::select! {
            _ = beat.tick() => {
                beats += 1;
                let effluent = shared.lock().process.effluent.clone();
                let left_out = shared.is_on(&Fault::StationBirthless);
                if !there {
                    node.keep(&effluent, now_ms());
                    continue;
                }
                if !wanted() || (left_out && !birthless) {
                    // It begins anew, and says so before it leaves.
                    return leave(node, client, polled).await;
                }
                birthless = left_out;
                let mut sent = node.data(&effluent, now_ms());
                if shared.is_on(&Fault::StationGap) && beats.is_multiple_of(LOST_OF) {
                    sent.pop();
                }
                publish(&client, sent);
            }
            event = polled.poll() => match event {
                Err(_) => {
                    // Meanwhile it measures on.
                    let effluent = shared.lock().process.effluent.clone();
                    node.keep(&effluent, now_ms());
                    return sleep(BEAT).await;
                }
                Ok(Event::Incoming(Packet::ConnAck(_))) => {
                    let topics = [topic::state(HOST), format!("spBv1.0/{GROUP}/NCMD/{NODE}"), format!("spBv1.0/{GROUP}/DCMD/{NODE}/#")];
                    for topic in topics {
                        // A queue that is empty has room for them.
                        let _ = client.try_subscribe(topic, QoS::AtLeastOnce);
                    }
                }
                Ok(Event::Incoming(Packet::Publish(came))) if came.topic == topic::state(HOST) => {
                    let online = serde_json::from_slice::<serde_json::Value>(&came.payload).is_ok_and(|told| told["online"] == true);
                    if there && !online {
                        return leave(node, client, polled).await;
                    }
                    if !there && online {
                        there = true;
                        born(node, &client, shared, birthless);
                    }
                }
                Ok(Event::Incoming(Packet::Publish(came))) if there => {
                    let Some(command) = Payload::read(&came.payload) else { continue };
                    for metric in command.metrics {
                        match (metric.name.as_deref(), &metric.value) {
                            (Some("Node Control/Rebirth"), Some(MetricValue::Boolean(true))) => born(node, &client, shared, birthless),
                            (Some("Speed setpoint"), Some(MetricValue::Double(speed))) if SPEEDS.contains(speed) => {
                                shared.lock().process.effluent.speed_setpoint = *speed;
                            }
                            _ => {}
                        }
                    }
                }
                Ok(_) => {}
            },
        }
    }
}

fn born(node: &mut Node, client: &AsyncClient, shared: &Shared, birthless: bool) {
    let effluent = shared.lock().process.effluent.clone();
    publish(client, node.births(&effluent, now_ms(), !birthless));
}

fn publish(client: &AsyncClient, messages: Vec<(String, Vec<u8>)>) {
    for (topic, payload) in messages {
        // What finds no room is missing at the host, which then asks for a birth.
        let _ = client.try_publish(topic, QoS::AtMostOnce, false, payload);
    }
}

/// Says that it goes, and goes.
async fn leave(node: &Node, client: AsyncClient, mut polled: EventLoop) {
    let (topic, death) = node.death();
    let _ = (client.try_publish(topic, QoS::AtLeastOnce, false, death), client.try_disconnect());
    let over = async { while polled.poll().await.is_ok() {} };
    // A broker that does not let it go is left all the same.
    let _ = tokio::time::timeout(BEAT, over).await;
}

fn now_ms() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_millis() as u64)
}

impl Shared {
    fn is_on(&self, fault: &Fault) -> bool {
        self.lock().faults.is_on(fault, Instant::now())
    }
}
