//! The utilities on the wire: a broker behind a cable, and the program that publishes what they tell.

use super::{
    broker::{Account, Broker, Setup},
    locked,
    points::{self, ROOT},
    secured::{Client, Secured, begun},
};
use crate::{effluent::serve as effluent, faults::Fault, relay, serve::Shared};
use rumqttc::{AsyncClient, Event, MqttOptions, Packet, QoS};
use std::{
    io,
    time::{Duration, Instant, SystemTime, UNIX_EPOCH},
};
use tokio::{
    net::TcpListener,
    time::{MissedTickBehavior, interval},
};

/// The account with which Havrel reads the utilities.
pub const USER: &str = "havrel";
pub const PASSWORD: &str = "kelp-and-steam";

/// How the topic of the outside temperature ends.
const OUTSIDE: &str = "/outside";
/// How often messages are sent.
const BEAT: Duration = Duration::from_secs(1);
/// The highest steam pressure that may be wanted, in bar.
const MOST_PRESSURE: f64 = 10.0;

fn setup() -> Setup {
    let accounts = vec![
        Account {
            user: USER,
            password: PASSWORD,
            rights: &[
                "read brackmere/#",
                "write brackmere/utilities/+/set",
                "readwrite havrel/#",
                "read spBv1.0/#",
                "write spBv1.0/STATE/havrel",
                "write spBv1.0/+/NCMD/+",
                "write spBv1.0/+/DCMD/+/+",
            ],
        },
        Account {
            user: effluent::USER,
            password: effluent::PASSWORD,
            rights: &["readwrite spBv1.0/Brackmere/#", "read spBv1.0/STATE/#"],
        },
        Account { user: "utilities", password: "published-here", rights: &["readwrite brackmere/#", "readwrite spBv1.0/#"] },
        Account { user: "visitor", password: "looks-only", rights: &["read brackmere/utilities/outside"] },
    ];
    Setup { accounts, ..Setup::default() }
}

/// Starts the broker of the site.
///
/// # Errors
/// When it does not start.
pub async fn broker() -> io::Result<Broker> {
    tokio::task::spawn_blocking(|| Broker::start(&setup())).await.map_err(io::Error::other)?
}

/// Lets clients reach the broker, and publishes once a second, until the listener fails.
///
/// # Errors
/// When the listener fails.
pub async fn serve(listener: TcpListener, broker: &Broker, shared: Shared) -> io::Result<()> {
    let mut options = MqttOptions::new("utilities", broker.address.ip().to_string(), broker.address.port());
    options.set_credentials("utilities", "published-here").set_keep_alive(Duration::from_secs(10));
    let (client, mut polled) = AsyncClient::new(options, 100);
    let points = points::points();
    let secured = Secured::new()?;
    let mut again = Instant::now();
    let mut retains = false;
    let mut beat = interval(BEAT);
    beat.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            accepted = listener.accept() => {
                let Ok((outside, _)) = accepted else { continue };
                let (inside, expired) = (broker.address, shared.has_expired());
                let (acceptor, shared) = (secured.of(expired), shared.clone());
                tokio::spawn(async move {
                    let cable = |expired| Cable { shared: shared.clone(), expired };
                    // One that goes away, or does not trust the certificate, is left.
                    match begun(outside, acceptor).await {
                        Ok(Client::Plain(outside)) if shared.is_locked() => locked::refuse(outside).await,
                        Ok(Client::Secured(outside)) if shared.is_locked() => locked::refuse(outside).await,
                        Ok(Client::Plain(outside)) => relay::carry(outside, inside, cable(None)).await,
                        Ok(Client::Secured(outside)) => relay::carry(outside, inside, cable(Some(expired))).await,
                        Err(_) => {}
                    }
                });
            }
            _ = beat.tick() => {
                let now_ms = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64);
                let Told { messages, broken, silent, only_retained } = shared.told(&points, now_ms);
                for (topic, message) in messages {
                    if silent && topic.contains("/meter/M3/") {
                        continue;
                    }
                    if topic.ends_with(OUTSIDE) && (only_retained || only_retained != retains) {
                        // Once, to be retained; afterwards once more without a message, so that it is forgotten.
                        if only_retained != retains {
                            let message = if only_retained { message } else { String::new() };
                            let _ = client.try_publish(topic, QoS::AtMostOnce, true, message);
                        }
                        retains = only_retained;
                        continue;
                    }
                    let message = if broken && topic.contains("/meter/M2/") { message[..message.len() / 2].to_owned() } else { message };
                    // The meters and the setpoint are kept by the broker. What finds no room is sent with the next beat.
                    let retained = topic.contains("/meter/") || topic.ends_with("/setpoint");
                    let _ = client.try_publish(topic, QoS::AtMostOnce, retained, message);
                }
            }
            event = polled.poll(), if Instant::now() >= again => match event {
                Ok(Event::Incoming(Packet::ConnAck(_))) => drop(client.try_subscribe(format!("{ROOT}/boiler/set"), QoS::AtLeastOnce)),
                Ok(Event::Incoming(Packet::Publish(came))) => shared.set_pressure(&came.payload),
                Ok(_) => {}
                // The beat wakes it again, and clients are let in meanwhile.
                Err(_) => again = Instant::now() + BEAT,
            },
        }
    }
}

/// The messages of a moment, and what is wrong with them.
struct Told {
    messages: Vec<(String, String)>,
    /// One meter sends half of them, and another one none.
    broken: bool,
    silent: bool,
    /// The outside temperature is not sent any more, only retained.
    only_retained: bool,
}

/// The cable between the broker and a client.
struct Cable {
    shared: Shared,
    /// Whether the certificate that the client was shown has expired; another one ends the session.
    expired: Option<bool>,
}

impl relay::Cable for Cable {
    fn cut(&self) -> bool {
        let other = self.expired.is_some_and(|expired| expired != self.shared.has_expired());
        other || self.shared.is_locked() || self.shared.lock().faults.is_on(&Fault::BrokerCut, Instant::now())
    }

    fn slow(&self) -> bool {
        self.shared.lock().faults.is_on(&Fault::BrokerSlow, Instant::now())
    }
}

impl Shared {
    fn is_locked(&self) -> bool {
        self.lock().faults.is_on(&Fault::BrokerLocked, Instant::now())
    }

    fn has_expired(&self) -> bool {
        self.lock().faults.is_on(&Fault::BrokerExpired, Instant::now())
    }

    /// The messages of this moment, and what is wrong with them.
    fn told(&self, points: &[points::Point], now_ms: i64) -> Told {
        let works = self.lock();
        let on = |fault| works.faults.is_on(&fault, Instant::now());
        Told {
            messages: points::messages(points, &works.process.utilities, now_ms),
            broken: on(Fault::MeterBroken),
            silent: on(Fault::MeterSilent),
            only_retained: on(Fault::OutsideRetained),
        }
    }

    /// Takes the steam pressure that is wanted: `{"pressure": 8.5}`.
    fn set_pressure(&self, message: &[u8]) {
        let wanted = serde_json::from_slice::<serde_json::Value>(message).ok().and_then(|told| told["pressure"].as_f64());
        if let Some(bar) = wanted.filter(|bar| (0.0..=MOST_PRESSURE).contains(bar)) {
            self.lock().process.utilities.pressure_setpoint = bar;
        }
    }
}
