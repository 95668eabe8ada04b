//! What goes wrong on command: on the wire, at a sensor, or in the process.

use crate::process::Upset;
use serde::{Deserialize, Serialize};
use std::{
    fmt,
    time::{Duration, Instant},
};

/// The two controllers, in the order in which the plant keeps them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, clap::ValueEnum)]
#[serde(rename_all = "lowercase")]
pub enum Which {
    Extraction,
    Wash,
}

impl Which {
    /// Both.
    pub const ALL: [Which; 2] = [Which::Extraction, Which::Wash];

    /// The name on its cabinet.
    pub fn name(self) -> &'static str {
        match self {
            Which::Extraction => "Extraction",
            Which::Wash => "Wash",
        }
    }
}

/// Something that goes wrong on command.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "fault", rename_all = "snake_case")]
pub enum Fault {
    /// The controller's cable: connections end, new ones are closed at once.
    Cut { controller: Which },
    /// Every answer comes so many milliseconds late.
    Delay { controller: Which, ms: u64 },
    /// Every request is answered with exception 4, server device failure.
    Exception { controller: Which },
    /// Answers lack their last register.
    Short { controller: Which },
    /// A sensor keeps showing what it shows.
    Freeze { place: String, point: String },
    /// The cable of the server Dryline.
    ServerCut,
    /// The server Dryline starts anew.
    ServerRestart,
    /// The server shows a certificate that has expired.
    ServerExpired,
    /// The server shows another certificate than before.
    ServerRenewed,
    /// The server trusts no client's certificate.
    ServerDistrusts,
    /// The server lets nobody log in.
    ServerLocked,
    /// The server gives no subscriptions.
    ServerPlain,
    /// A subscription of the server holds five values only.
    ServerNarrow,
    /// The server says everything late.
    ServerSlow,
    /// The server gives its namespaces other numbers.
    ServerRenumbered,
    /// A node of the server has a bad status, without a value.
    ServerBad { node: String },
    /// The cable of the broker.
    BrokerCut,
    /// Everything that the broker sends comes late.
    BrokerSlow,
    /// The broker shows a certificate that has expired.
    BrokerExpired,
    /// The broker lets nobody log in.
    BrokerLocked,
    /// Meter M2 sends half messages.
    MeterBroken,
    /// Meter M3 sends nothing.
    MeterSilent,
    /// The outside temperature is not measured any more; the broker retains what it was.
    OutsideRetained,
    /// The cable of the station at the outlet.
    StationCut,
    /// The station loses messages.
    StationGap,
    /// The station does not announce its devices.
    StationBirthless,
    /// Another station has the same name.
    StationTwin,
    /// The service of weather and tariff is not available.
    ServiceGone,
    /// The service sends half answers.
    ServiceBroken,
    /// The service takes no token.
    ServiceLocked,
    /// The mail server closes every connection.
    MailGone,
    /// The mail server knows nobody.
    MailRefuses,
    /// The mail server says hello and nothing more.
    MailSilent,
    /// The program that is told of things takes nothing.
    HookClosed,
    /// The process itself.
    Process {
        #[serde(flatten)]
        upset: Upset,
    },
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Fault::Cut { controller } => write!(f, "cable of {} cut", controller.name()),
            Fault::Delay { controller, ms } => write!(f, "{} answers {ms} ms late", controller.name()),
            Fault::Exception { controller } => write!(f, "{} answers with exceptions", controller.name()),
            Fault::Short { controller } => write!(f, "{} answers too short", controller.name()),
            Fault::Freeze { place, point } => write!(f, "{place}/{point} frozen"),
            Fault::ServerCut => write!(f, "cable of Dryline cut"),
            Fault::ServerRestart => write!(f, "Dryline restarts"),
            Fault::ServerExpired => write!(f, "certificate of Dryline expired"),
            Fault::ServerRenewed => write!(f, "certificate of Dryline renewed"),
            Fault::ServerDistrusts => write!(f, "Dryline trusts no client"),
            Fault::ServerLocked => write!(f, "Dryline lets nobody log in"),
            Fault::ServerPlain => write!(f, "Dryline gives no subscriptions"),
            Fault::ServerNarrow => write!(f, "a subscription of Dryline holds five values"),
            Fault::ServerSlow => write!(f, "Dryline is slow"),
            Fault::ServerRenumbered => write!(f, "namespaces of Dryline are renumbered"),
            Fault::ServerBad { node } => write!(f, "sensor behind {node} failed"),
            Fault::BrokerCut => write!(f, "cable of the broker cut"),
            Fault::BrokerSlow => write!(f, "the broker is slow"),
            Fault::BrokerExpired => write!(f, "certificate of the broker expired"),
            Fault::BrokerLocked => write!(f, "the broker lets nobody log in"),
            Fault::MeterBroken => write!(f, "meter M2 sends half messages"),
            Fault::MeterSilent => write!(f, "meter M3 is silent"),
            Fault::OutsideRetained => write!(f, "outside temperature only retained"),
            Fault::StationCut => write!(f, "cable of the effluent station cut"),
            Fault::StationGap => write!(f, "the effluent station loses messages"),
            Fault::StationBirthless => write!(f, "the effluent station does not announce its devices"),
            Fault::StationTwin => write!(f, "two effluent stations have one name"),
            Fault::ServiceGone => write!(f, "weather and tariff not available"),
            Fault::ServiceBroken => write!(f, "weather and tariff send half answers"),
            Fault::ServiceLocked => write!(f, "weather and tariff take no token"),
            Fault::MailGone => write!(f, "the mail server is gone"),
            Fault::MailRefuses => write!(f, "the mail server knows nobody"),
            Fault::MailSilent => write!(f, "the mail server does not answer"),
            Fault::HookClosed => write!(f, "the gatehouse screen takes nothing"),
            Fault::Process { upset: Upset::PumpTrip { tank } } => write!(f, "pump of wash tank {tank} tripped"),
            Fault::Process { upset: Upset::BlindFilter { tank } } => write!(f, "filter of wash tank {tank} blinds"),
            Fault::Process { upset: Upset::MillJam } => write!(f, "mill jammed"),
            Fault::Process { upset: Upset::VoltageDip } => write!(f, "voltage of the mains low"),
            Fault::Process { upset: Upset::LooseCable } => write!(f, "cable of the hopper's level probe loose"),
            Fault::Process { upset: Upset::PhDrift { vessel } } => write!(f, "pH probe of EX-{vessel} drifts"),
        }
    }
}

/// The longest a fault lasts.
pub const LONGEST: Duration = Duration::from_secs(3600);
/// Most faults at a time.
const MOST: usize = 50;

/// The faults on wires and sensors that are on now.
#[derive(Debug, Default)]
pub struct Faults(Vec<(Fault, Instant)>);

impl Faults {
    /// Switches a fault on, or prolongs it. `false`: there are too many.
    pub(crate) fn begin(&mut self, fault: Fault, now: Instant, lasts: Duration) -> bool {
        self.0.retain(|(f, until)| *f != fault && *until > now);
        if self.0.len() >= MOST {
            return false;
        }
        self.0.push((fault, now + lasts.min(LONGEST)));
        true
    }

    /// Those that are on.
    pub(crate) fn on(&self, now: Instant) -> impl Iterator<Item = (&Fault, Duration)> {
        self.0.iter().filter(move |(_, until)| *until > now).map(move |(f, until)| (f, *until - now))
    }

    /// Whether one is on.
    pub(crate) fn is_on(&self, fault: &Fault, now: Instant) -> bool {
        self.on(now).any(|(on, _)| on == fault)
    }

    /// Switches one off; whether it was on.
    pub(crate) fn end(&mut self, fault: &Fault) -> bool {
        let before = self.0.len();
        self.0.retain(|(f, _)| f != fault);
        self.0.len() < before
    }

    pub(crate) fn clear(&mut self) {
        self.0.clear();
    }

    /// Whether a controller's cable is cut.
    pub(crate) fn cut(&self, which: Which, now: Instant) -> bool {
        self.is_on(&Fault::Cut { controller: which }, now)
    }
}
