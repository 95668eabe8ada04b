//! What can go wrong with a device, in words a plant engineer can act on.

use crate::Offer;
use havrel_core::quality::Reason;

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
    #[error("What answers there does not speak this protocol{0}.")]
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
    #[error("The connection is switched off.")]
    SwitchedOff,
    #[error("{0}")]
    BadRequest(String),
    #[error("The device took the value but now holds {0}.")]
    ReadBack(String),
    /// Why not, and its fingerprint.
    #[error("The device's certificate is not trusted: {0}. Its fingerprint is {1}.")]
    Untrusted(String, String),
    #[error("No secured connection came about: {0}.")]
    NotSecured(String),
    #[error("The {0} is not here, or cannot be opened with the key of this machine.")]
    NoSecret(String),
}

impl LinkError {
    /// The quality its tags get.
    pub fn reason(&self) -> Reason {
        match self {
            LinkError::Silent(_) | LinkError::WrongUnit(_) | LinkError::UnitSilent(_) => Reason::NoAnswer,
            LinkError::WrongAnswer(_) | LinkError::OtherRequest | LinkError::OtherProtocol(_) => Reason::WrongAnswer,
            LinkError::NoSuchAddress(_) => Reason::NoSuchAddress,
            LinkError::Refused(_) | LinkError::ReadBack(_) => Reason::Refused,
            LinkError::SwitchedOff => Reason::SwitchedOff,
            LinkError::BadRequest(_) => Reason::NoSource,
            LinkError::NameNotFound(_)
            | LinkError::PortClosed(..)
            | LinkError::Unreachable(..)
            | LinkError::NoConnection(..)
            | LinkError::Line(..)
            | LinkError::Untrusted(..)
            | LinkError::NotSecured(_)
            | LinkError::NoSecret(_)
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
            LinkError::Silent(_) => "Check the unit id, or give the device more time.",
            LinkError::OtherProtocol(_) => "The port is open, but another program listens there. Check the port.",
            LinkError::Closed => "The device may allow fewer connections than are open. Close others and wait.",
            LinkError::WrongAnswer(_) => "Check the unit id and gateway; a shorter request size can help.",
            LinkError::OtherRequest => "The device answers late. Give it more time or poll it less often.",
            LinkError::WrongUnit(_) => "Check the unit id; behind a gateway it is the number of the device on the line.",
            LinkError::UnitSilent(_) => "Check the device's power, its number on the line, and the line.",
            LinkError::NoSuchAddress(_) => "Check the address, and whether the manual counts from 0 or from 1.",
            LinkError::Refused(_) => "The manual says which requests the device allows.",
            LinkError::SwitchedOff => "Switch the connection on.",
            LinkError::BadRequest(_) => "Correct what was asked for.",
            LinkError::ReadBack(_) => "The device may limit or overwrite the value itself.",
            LinkError::Untrusted(..) => "Compare the fingerprint with the one the device itself shows; if they agree, trust it.",
            LinkError::NotSecured(_) => "Check that the port is the secured one, and which certificates the device takes.",
            LinkError::NoSecret(_) => "Give it again in the settings of the connection.",
        }
    }

    /// What the settings of the connection could take over from it: the field, its value, and what that does.
    pub fn offer(&self) -> Option<Offer> {
        let LinkError::Untrusted(_, fingerprint) = self else { return None };
        Some(Offer { field: "tls.fingerprint", value: fingerprint.clone(), words: "Trust this certificate" })
    }

    /// What sort of failure it is, for counting.
    pub fn kind(&self) -> &'static str {
        match self {
            LinkError::NameNotFound(_) | LinkError::PortClosed(..) | LinkError::Unreachable(..) => "not reachable",
            LinkError::NoConnection(..) | LinkError::Line(..) => "not reachable",
            LinkError::Silent(_) | LinkError::UnitSilent(_) => "no answer",
            LinkError::WrongUnit(_) => "no such unit",
            LinkError::OtherProtocol(_) | LinkError::WrongAnswer(_) | LinkError::OtherRequest => "wrong answer",
            LinkError::Closed => "closed by the device",
            LinkError::NoSuchAddress(_) => "no such address",
            LinkError::Refused(_) | LinkError::ReadBack(_) => "refused",
            LinkError::Untrusted(..) | LinkError::NotSecured(_) => "not secured",
            LinkError::SwitchedOff | LinkError::BadRequest(_) | LinkError::NoSecret(_) => "not asked",
        }
    }

    /// Whether the connection still stands after it, so that other requests may go on.
    pub(crate) fn spares_connection(&self) -> bool {
        matches!(self, LinkError::NoSuchAddress(_) | LinkError::Refused(_) | LinkError::BadRequest(_) | LinkError::ReadBack(_))
    }
}
