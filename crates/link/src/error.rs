//! What can go wrong with a device, in words a plant engineer can act on.

use crate::http::status::meaning;
use havrel_core::quality::Reason;
use serde::Serialize;
use utoipa::ToSchema;

/// What mends it where a server refuses our certificate.
pub(crate) const TRUST_US: &str = "Trust Havrel’s certificate at the server; there it usually waits among the rejected ones.";

/// A status in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Status {
    /// As the standard names it.
    pub name: String,
    pub words: &'static str,
    pub cure: &'static str,
    /// The quality it means for a tag.
    pub reason: Reason,
    /// Whether it concerns one node and leaves the connection as it is.
    pub of_node: bool,
}

/// Something found out by a test that a setting could hold.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = SettingOffer)]
pub struct Offer {
    /// A field of the connection, such as `settings.tls.fingerprint` or `settings.spare[0].fingerprint`.
    pub field: String,
    pub value: String,
    /// What taking it does.
    pub words: String,
}

/// A certificate that is not trusted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Untrusted {
    /// Why not, after “it is not trusted:”.
    pub why: String,
    /// SHA-256, as people compare it.
    pub fingerprint: String,
    pub cure: &'static str,
    /// The setting that would trust it.
    pub offer: Offer,
}

/// A failure of a connection or of one request on it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LinkError {
    #[error("The name “{0}” is not known.")]
    NameNotFound(String),
    #[error("{0} refuses connections on port {1}.")]
    PortClosed(String, u16),
    #[error("{0} cannot be reached: {1}.")]
    Unreachable(String, String),
    #[error("Nothing answered at {0} within {1} ms.")]
    NoConnection(String, u32),
    #[error("The line {0} cannot be opened: {1}.")]
    Line(String, String),
    #[error("No answer within {0} ms.")]
    Silent(u32),
    /// After how many milliseconds it did, and how long was waited for.
    #[error("The answer came after {0} ms; the timeout is {1} ms.")]
    Late(u32, u32),
    /// Who was asked, and who answers instead.
    #[error("Unit {0} does not answer, but unit {1} does.")]
    OtherUnit(u8, u8),
    #[error("No answer within {0} ms, whatever the unit id; the port is open.")]
    NobodyAnswers(u32),
    #[error("The program that answers there does not speak this protocol{0}.")]
    OtherProtocol(String),
    #[error("The device closed the connection.")]
    Closed,
    #[error("The answer does not fit the request: {0}.")]
    WrongAnswer(String),
    #[error("An answer came that belongs to another request.")]
    OtherRequest,
    #[error("No device with unit id {0} answers behind this address.")]
    WrongUnit(u8),
    #[error("The device with unit id {0} does not answer; the others go on.")]
    UnitSilent(u8),
    #[error("The device has no {0}.")]
    NoSuchAddress(String),
    #[error("The device refused: {0}.")]
    Refused(String),
    #[error("The device does not know function {0} (exception 1).")]
    NoFunction(u8),
    #[error("The device is busy (exception 6).")]
    Busy,
    #[error("The connection is switched off.")]
    SwitchedOff,
    #[error("{0}")]
    BadRequest(String),
    #[error("The device took the value but now holds {0}.")]
    ReadBack(String),
    #[error("The device's certificate is not trusted: {}. Its fingerprint is {}.", .0.why, .0.fingerprint)]
    Untrusted(Box<Untrusted>),
    #[error("The server closed the connection when Havrel showed its own certificate.")]
    ShutOut,
    #[error("The secured connection failed: {0}.")]
    NotSecured(String),
    /// A service or a node answered with a status (OPC UA Part 4, 7.39).
    #[error("The server answered: {} ({}).", .0.words, .0.name)]
    Status(Status),
    /// Which endpoint was wished, and which there are.
    #[error("The server has no endpoint for {0}. It offers: {1}.")]
    NoEndpoint(String, String),
    #[error("The broker does not know this user name and password.")]
    WrongLogin,
    /// What is not allowed.
    #[error("The broker does not allow this login to {0}.")]
    NotAllowed(&'static str),
    #[error("The broker does not speak this version of MQTT.")]
    OtherVersion,
    #[error("The broker ended the session.")]
    Ended,
    #[error("Another client connected with the same client id.")]
    SameClient,
    #[error("A message is larger than {0} bytes.")]
    TooLarge(u32),
    /// On which topic.
    #[error("The broker took a message on {0}, and did not give it back.")]
    NotBack(String),
    /// A program answered with a status of HTTP (RFC 9110, 15).
    #[error("The program answered {0}: {words}.", words = meaning(*.0).0)]
    Answered(u16),
    /// Where to.
    #[error("The answer sends on to {0}, which is another host or not secured.")]
    SentOn(String),
    #[error("The command was sent, and the edge node does not tell a value back.")]
    NotTold,
    #[error("The program “mosquitto”, which Havrel runs as a broker, is not installed.")]
    NoBroker,
    #[error("The broker does not run: {0}.")]
    NotStarted(String),
    #[error("Another program uses port {0} of this machine.")]
    PortTaken(u16),
    #[error("This machine has no address {0}.")]
    NoSuchNetwork(String),
    #[error("The {0} is missing, or cannot be opened with the key of this machine.")]
    NoSecret(String),
    /// A mail server answered with a code and words (RFC 5321, 4.2).
    #[error("The mail server answered {0}: {1}.")]
    MailAnswered(u16, String),
    /// Which folder, and what is wrong with it.
    #[error("Nothing can be put into the folder {0}: {1}.")]
    Folder(String, String),
}

impl LinkError {
    /// The quality its tags get.
    pub fn reason(&self) -> Reason {
        match self {
            LinkError::Silent(_)
            | LinkError::Late(..)
            | LinkError::OtherUnit(..)
            | LinkError::NobodyAnswers(_)
            | LinkError::WrongUnit(_)
            | LinkError::UnitSilent(_) => Reason::NoAnswer,
            LinkError::WrongAnswer(_) | LinkError::OtherRequest | LinkError::OtherProtocol(_) => Reason::WrongAnswer,
            LinkError::NoSuchAddress(_) => Reason::NoSuchAddress,
            LinkError::Refused(_) | LinkError::NoFunction(_) | LinkError::Busy | LinkError::ReadBack(_) => Reason::Refused,
            LinkError::SwitchedOff => Reason::SwitchedOff,
            LinkError::NotAllowed(_) => Reason::NotReadable,
            LinkError::BadRequest(_) => Reason::NoSource,
            LinkError::Status(status) => status.reason,
            LinkError::Answered(status) => meaning(*status).2,
            LinkError::SentOn(_) => Reason::Refused,
            LinkError::NameNotFound(_)
            | LinkError::PortClosed(..)
            | LinkError::Unreachable(..)
            | LinkError::NoConnection(..)
            | LinkError::Line(..)
            | LinkError::Untrusted(..)
            | LinkError::ShutOut
            | LinkError::NotSecured(_)
            | LinkError::NoSecret(_)
            | LinkError::NoEndpoint(..)
            | LinkError::WrongLogin
            | LinkError::OtherVersion
            | LinkError::SameClient
            | LinkError::Ended
            | LinkError::TooLarge(_)
            | LinkError::NotBack(_)
            | LinkError::NotTold
            | LinkError::NoBroker
            | LinkError::NotStarted(_)
            | LinkError::PortTaken(_)
            | LinkError::NoSuchNetwork(_)
            | LinkError::MailAnswered(..)
            | LinkError::Folder(..)
            | LinkError::Closed => Reason::NotConnected,
        }
    }

    /// What usually mends it.
    pub fn cure(&self) -> &'static str {
        match self {
            LinkError::NameNotFound(_) => "Check the spelling, or type the address as numbers.",
            LinkError::PortClosed(..) => "Check the port, and that the server on the device is switched on.",
            LinkError::Unreachable(..) => "Check the address and the network between here and there.",
            LinkError::NoConnection(..) => "Check that the device has power, and that no firewall stands between.",
            LinkError::Line(..) => "Check the name of the line, its adapter, and that Havrel may use it (group dialout).",
            LinkError::Silent(_) => "Test the connection: the test tells a wrong unit id from a device that is slow.",
            LinkError::Late(..) => "Set a longer timeout.",
            LinkError::OtherUnit(..) => "Check the unit id; behind a gateway it is the number of the device on the line.",
            LinkError::NobodyAnswers(_) => "Check that Modbus is switched on in the device, and that this is its Modbus port.",
            LinkError::OtherProtocol(_) => "The port is open, but another program listens there. Check the port.",
            LinkError::Closed => "The device may allow fewer connections than are open. Close others and wait.",
            LinkError::WrongAnswer(_) => "Check the unit id and gateway; a shorter request size can help.",
            LinkError::OtherRequest => "The device answers late. Give it more time or poll it less often.",
            LinkError::WrongUnit(_) => "Check the unit id; behind a gateway it is the number of the device on the line.",
            LinkError::UnitSilent(_) => "Check the device's power, its number on the line, and the line.",
            LinkError::NoSuchAddress(_) => "Check the address, and whether the manual counts from 0 or from 1.",
            LinkError::Refused(_) => "The manual says which requests the device allows.",
            LinkError::NoFunction(5 | 6 | 15 | 16 | 22 | 23) => {
                "Choose the functions that the manual names: settings of the connection, Write with functions."
            }
            LinkError::NoFunction(_) => "The manual says which tables and functions the device has.",
            LinkError::Busy => "It usually passes; poll less often if it does not.",
            LinkError::SwitchedOff => "Switch the connection on.",
            LinkError::BadRequest(_) => "Enter a valid value.",
            LinkError::ReadBack(_) => "The device may limit or overwrite the value itself.",
            LinkError::Untrusted(untrusted) => untrusted.cure,
            LinkError::ShutOut => TRUST_US,
            LinkError::NotSecured(_) => "Check that the port is the secured one, and which certificates the device takes.",
            LinkError::Status(status) => status.cure,
            LinkError::NoEndpoint(..) => "Choose a security that the server offers, or have it switched on at the server.",
            LinkError::WrongLogin => "Check user name and password, and the accounts of the broker.",
            LinkError::NotAllowed(_) => "Give the login the right at the broker, or choose another login.",
            LinkError::OtherVersion => "Choose the other version in the settings of the connection.",
            LinkError::Ended => "It may have restarted, or another client uses the same client id.",
            LinkError::SameClient => "Enter a client id that no other client uses.",
            LinkError::TooLarge(_) => "Allow larger messages in the settings of the connection, or find who sends it.",
            LinkError::NotBack(_) => "Some brokers take what they do not pass on: check the topic rights of the login.",
            LinkError::Answered(status) => meaning(*status).1,
            LinkError::NotTold => "Check that the login may publish commands (NCMD, DCMD), and that the edge node takes them.",
            LinkError::SentOn(_) => "Enter that address, or allow other hosts in the settings of the connection.",
            LinkError::NoSecret(_) => "Enter it again in the settings of the connection.",
            LinkError::MailAnswered(535 | 530 | 534, _) => "Check user and password, and which logins the mail server takes.",
            LinkError::MailAnswered(400..500, _) => "It usually passes; the mail server's log says more.",
            LinkError::MailAnswered(..) => "Check the address, and what the mail server allows this sender; its log says more.",
            LinkError::Folder(..) => {
                "Check that the folder is there, that its share is mounted, and that the account of Havrel may write there."
            }
            LinkError::NoBroker => "Install Debian’s package: apt-get install mosquitto.",
            LinkError::NotStarted(_) => "It is started again. If that does not help, read the log of Havrel.",
            LinkError::PortTaken(_) => "End that program, which may be another broker, or choose another port.",
            LinkError::NoSuchNetwork(_) => "Enter an address that this machine has, or listen in all its networks.",
        }
    }

    /// What the settings of the connection could take over from it: the field, its value, and what that does.
    pub fn offer(&self) -> Option<Offer> {
        let (field, value, words) = match self {
            LinkError::Untrusted(untrusted) => return Some(untrusted.offer.clone()),
            LinkError::OtherUnit(_, unit) => ("settings.unit", unit.to_string(), "Use the unit that answers"),
            // Twice what it took, in full seconds.
            LinkError::Late(took, _) => ("timeout_ms", (took.div_ceil(500) * 1000).to_string(), "Wait longer"),
            _ => return None,
        };
        Some(Offer { field: field.into(), value, words: words.into() })
    }

    /// What sort of failure it is, for counting.
    pub fn kind(&self) -> &'static str {
        match self {
            LinkError::NameNotFound(_) | LinkError::PortClosed(..) | LinkError::Unreachable(..) => "not reachable",
            LinkError::NoConnection(..) | LinkError::Line(..) => "not reachable",
            LinkError::Silent(_) | LinkError::Late(..) | LinkError::NobodyAnswers(_) | LinkError::UnitSilent(_) => "no answer",
            LinkError::NotTold => "no answer",
            LinkError::WrongUnit(_) | LinkError::OtherUnit(..) => "no such unit",
            LinkError::OtherProtocol(_) | LinkError::WrongAnswer(_) | LinkError::OtherRequest => "wrong answer",
            LinkError::Closed => "closed by the device",
            LinkError::NoSuchAddress(_) => "no such address",
            LinkError::Refused(_) | LinkError::NoFunction(_) | LinkError::ReadBack(_) => "refused",
            LinkError::Busy => "busy",
            LinkError::WrongLogin | LinkError::NotAllowed(_) | LinkError::OtherVersion | LinkError::NotBack(_) => "refused",
            LinkError::SameClient | LinkError::Ended => "closed by the device",
            LinkError::TooLarge(_) => "wrong answer",
            LinkError::Status(_) | LinkError::Answered(_) | LinkError::SentOn(_) | LinkError::MailAnswered(..) => "refused",
            LinkError::Folder(..) => "not writable",
            LinkError::NoEndpoint(..) => "not secured",
            LinkError::Untrusted(..) | LinkError::ShutOut | LinkError::NotSecured(_) => "not secured",
            LinkError::SwitchedOff | LinkError::BadRequest(_) | LinkError::NoSecret(_) => "not asked",
            LinkError::NoBroker | LinkError::NotStarted(_) | LinkError::PortTaken(_) | LinkError::NoSuchNetwork(_) => {
                "not started"
            }
        }
    }

    /// Whether the connection still stands after it, so that other requests may go on.
    pub(crate) fn spares_connection(&self) -> bool {
        if let LinkError::Status(status) = self {
            return status.of_node;
        }
        matches!(
            self,
            LinkError::NoSuchAddress(_)
                | LinkError::Refused(_)
                | LinkError::NoFunction(_)
                | LinkError::Busy
                | LinkError::BadRequest(_)
                | LinkError::ReadBack(_)
                | LinkError::NotAllowed(_)
                | LinkError::Answered(_)
                | LinkError::MailAnswered(500.., _)
        )
    }

    /// Whether the same request would be refused again, so that asking often is of no use.
    pub(crate) fn lasts(&self) -> bool {
        matches!(self, LinkError::NoSuchAddress(_) | LinkError::Refused(_) | LinkError::NoFunction(_))
    }
}
