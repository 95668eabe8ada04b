//! Status codes in words (OPC UA Part 4, 7.39 and annex A; Part 8, 6.3): what they say, what mends it, what they mean for a value.

use crate::{
    LinkError,
    error::{Status, TRUST_US},
};
use havrel_core::quality::{Quality, Reason};
use opcua::types::StatusCode;

/// Code, words after “The server answered:”, what mends it, the quality it means for a value, whether it concerns one node.
type Row = (StatusCode, &'static str, &'static str, Reason, bool);

const BROWSE: &str = "Browse the server again; the program in it may have changed.";
const LOGIN: &str = "Check how Havrel logs in, its user name and its password.";
const RIGHTS: &str = "Have the user of this connection allowed it at the server.";
const SERVER: &str = "Look at the server; its own diagnostics say more.";
const LIMITS: &str = "Fewer tags or fewer connections, or higher limits at the server.";
const DEVICE: &str = "Look at the device behind the server, and at its line.";
const ENTER: &str = "Enter a value that fits.";

const ROWS: &[Row] = &[
    (StatusCode::BadNodeIdUnknown, "it has no such node", BROWSE, Reason::NoSuchAddress, true),
    (StatusCode::BadNodeIdInvalid, "the node id is not valid there", BROWSE, Reason::NoSuchAddress, true),
    (StatusCode::BadAttributeIdInvalid, "the node holds no value", BROWSE, Reason::NoSuchAddress, true),
    (StatusCode::BadIndexRangeNoData, "the array has no such element", BROWSE, Reason::NoSuchAddress, true),
    (StatusCode::BadIndexRangeInvalid, "the elements are not written as it expects", BROWSE, Reason::NoSuchAddress, true),
    (StatusCode::BadNoMatch, "nothing is found there", BROWSE, Reason::NoSuchAddress, true),
    (StatusCode::BadNotReadable, "the node cannot be read", RIGHTS, Reason::NotReadable, true),
    (StatusCode::BadUserAccessDenied, "the login may not do that", RIGHTS, Reason::NotReadable, true),
    (StatusCode::BadNotWritable, "the node cannot be written", RIGHTS, Reason::Refused, true),
    (StatusCode::BadWriteNotSupported, "it cannot write this together with a time or a status", SERVER, Reason::Refused, true),
    (StatusCode::BadTypeMismatch, "the value is of another type than the node", ENTER, Reason::Refused, true),
    (StatusCode::BadOutOfRange, "the value is out of range", ENTER, Reason::Refused, true),
    (StatusCode::BadNotSupported, "it cannot do that", SERVER, Reason::Refused, true),
    (StatusCode::BadFilterNotAllowed, "it cannot filter this node", SERVER, Reason::Refused, true),
    (StatusCode::BadMonitoredItemFilterUnsupported, "it cannot filter this node", SERVER, Reason::Refused, true),
    (StatusCode::BadTooManyMonitoredItems, "it serves no more values at once", LIMITS, Reason::Refused, true),
    (StatusCode::BadContinuationPointInvalid, "it no longer knows where the page goes on", BROWSE, Reason::Refused, true),
    (
        StatusCode::BadNoContinuationPoints,
        "it has no room for another page",
        "Wait until others are done browsing.",
        Reason::Refused,
        true,
    ),
    (StatusCode::BadNotConnected, "it is not connected to the device", DEVICE, Reason::SourceNotConnected, true),
    (StatusCode::BadNoCommunication, "it cannot talk to the device", DEVICE, Reason::SourceNotConnected, true),
    (StatusCode::BadDeviceFailure, "the device failed", DEVICE, Reason::DeviceFailure, true),
    (StatusCode::BadSensorFailure, "the sensor failed", DEVICE, Reason::SensorFailure, true),
    (StatusCode::BadOutOfService, "it is out of service", DEVICE, Reason::SourceOutOfService, true),
    (StatusCode::BadWaitingForInitialData, "no value came yet", DEVICE, Reason::WaitingForData, true),
    (StatusCode::BadConfigurationError, "it is configured wrongly", SERVER, Reason::SourceConfiguration, true),
    (StatusCode::UncertainLastUsableValue, "the last usable value", DEVICE, Reason::LastUsable, true),
    (StatusCode::UncertainNoCommunicationLastUsableValue, "the last usable value", DEVICE, Reason::LastUsable, true),
    (StatusCode::UncertainSubstituteValue, "a substitute value", DEVICE, Reason::Substitute, true),
    (StatusCode::UncertainInitialValue, "an initial value", DEVICE, Reason::Initial, true),
    (StatusCode::UncertainSensorNotAccurate, "the sensor is not accurate", DEVICE, Reason::SensorInaccurate, true),
    (StatusCode::UncertainEngineeringUnitsExceeded, "out of its range", DEVICE, Reason::RangeExceeded, true),
    (StatusCode::UncertainSubNormal, "made from too few sources", DEVICE, Reason::SubNormal, true),
    (StatusCode::GoodLocalOverride, "forced at its source", DEVICE, Reason::LocalOverride, true),
    (StatusCode::BadIdentityTokenRejected, "the login is refused", LOGIN, Reason::NotConnected, false),
    (StatusCode::BadIdentityTokenInvalid, "it does not take this kind of login", LOGIN, Reason::NotConnected, false),
    (StatusCode::BadIdentityChangeNotSupported, "the login cannot change", LOGIN, Reason::NotConnected, false),
    (StatusCode::BadUserSignatureInvalid, "the login is not signed as it expects", LOGIN, Reason::NotConnected, false),
    (StatusCode::BadSecurityChecksFailed, "the security check failed", TRUST_US, Reason::NotConnected, false),
    (StatusCode::BadCertificateUntrusted, "it does not trust Havrel’s certificate", TRUST_US, Reason::NotConnected, false),
    (
        StatusCode::BadCertificateTimeInvalid,
        "a certificate is not valid at this time",
        "Compare the clocks, and renew the certificate if it is over.",
        Reason::NotConnected,
        false,
    ),
    (
        StatusCode::BadCertificateHostNameInvalid,
        "the certificate is for another host name",
        "Use the name that the certificate holds.",
        Reason::NotConnected,
        false,
    ),
    (StatusCode::BadCertificateUriInvalid, "the certificate is for another application", TRUST_US, Reason::NotConnected, false),
    (StatusCode::BadCertificateInvalid, "the certificate is not valid", TRUST_US, Reason::NotConnected, false),
    (
        StatusCode::BadSecurityPolicyRejected,
        "it does not take this security policy",
        "Choose another security.",
        Reason::NotConnected,
        false,
    ),
    (
        StatusCode::BadSecurityModeRejected,
        "it does not take this security mode",
        "Choose another security.",
        Reason::NotConnected,
        false,
    ),
    (
        StatusCode::BadTcpEndpointUrlInvalid,
        "it does not know this address",
        "Check what stands behind the port in the address.",
        Reason::NotConnected,
        false,
    ),
    (StatusCode::BadTcpServerTooBusy, "it is too busy", LIMITS, Reason::NotConnected, false),
    (StatusCode::BadTooManySessions, "it allows no more sessions", LIMITS, Reason::NotConnected, false),
    (StatusCode::BadTooManySubscriptions, "it allows no more subscriptions", LIMITS, Reason::NotConnected, false),
    (StatusCode::BadTooManyOperations, "that was too much in one request", LIMITS, Reason::NotConnected, false),
    (StatusCode::BadRequestTooLarge, "the request is too large", LIMITS, Reason::NotConnected, false),
    (StatusCode::BadResponseTooLarge, "the answer would be too large", LIMITS, Reason::NotConnected, false),
    (StatusCode::BadServiceUnsupported, "it does not offer this service", SERVER, Reason::NotConnected, false),
    (StatusCode::BadServerHalted, "it stands still", SERVER, Reason::NotConnected, false),
    (StatusCode::BadShutdown, "it is shutting down", SERVER, Reason::NotConnected, false),
    (StatusCode::BadOutOfMemory, "it has no memory left", SERVER, Reason::NotConnected, false),
    (StatusCode::BadInternalError, "an error inside it", SERVER, Reason::NotConnected, false),
];

fn row(code: StatusCode) -> Option<&'static Row> {
    // What stands in the lower half (limits, overflow) does not change the meaning.
    ROWS.iter().find(|row| row.0.bits() >> 16 == code.bits() >> 16)
}

/// The name that the standard gives it, with the number where there is none.
pub fn name(code: StatusCode) -> String {
    let bare = StatusCode::from(code.bits() & 0xffff_0000);
    let named = bare.validate().is_ok();
    if named { bare.sub_code().name().to_owned() } else { format!("0x{:08X}", code.bits()) }
}

/// A failed service or node.
pub fn error(code: StatusCode, timeout_ms: u32) -> LinkError {
    match code {
        StatusCode::BadTimeout | StatusCode::BadRequestTimeout => LinkError::Silent(timeout_ms),
        // Where the other side ends without a word; some servers then send what cannot be read as a status either.
        code if code.is_good() => LinkError::Closed,
        StatusCode::BadConnectionClosed | StatusCode::BadSecureChannelClosed | StatusCode::BadSessionClosed => LinkError::Closed,
        StatusCode::BadCommunicationError | StatusCode::BadServerNotConnected | StatusCode::BadSecureChannelIdInvalid => {
            LinkError::Closed
        }
        StatusCode::BadDecodingError | StatusCode::BadEncodingError | StatusCode::BadUnknownResponse => {
            LinkError::WrongAnswer("it cannot be decoded".into())
        }
        StatusCode::BadTcpMessageTypeInvalid | StatusCode::BadProtocolVersionUnsupported => {
            LinkError::OtherProtocol(String::new())
        }
        _ => {
            let (words, cure, reason, of_node) = match row(code) {
                Some(&(_, words, cure, reason, of_node)) => (words, cure, reason, of_node),
                None => ("something Havrel has no words for", SERVER, Reason::Refused, false),
            };
            LinkError::Status(Status { name: name(code), words, cure, reason, of_node })
        }
    }
}

/// A failure while a session opens: what otherwise concerns a node concerns the login then.
pub fn at_login(error: LinkError) -> LinkError {
    match error {
        LinkError::Status(status) if status.reason == Reason::NotReadable => LinkError::Status(Status {
            words: "the login is refused",
            cure: LOGIN,
            reason: Reason::NotConnected,
            of_node: false,
            ..status
        }),
        other => other,
    }
}

/// The quality of a value with this status.
pub fn quality(code: StatusCode) -> Quality {
    let reason = match row(code) {
        Some(row) => row.3,
        None if code.is_good() => Reason::Fine,
        None if code.is_uncertain() => Reason::SaidUncertain,
        None => Reason::SaidBad,
    };
    Quality::of(reason)
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::quality::Class;
    use rstest::rstest;

    #[test]
    fn the_quality_of_a_code_has_the_class_of_the_code() {
        for row in ROWS {
            let class = match row.0 {
                code if code.is_good() => Class::Good,
                code if code.is_uncertain() => Class::Uncertain,
                _ => Class::Bad,
            };
            assert_eq!(row.3.class(), class, "{}", name(row.0));
            assert!(ROWS.iter().filter(|other| other.0 == row.0).count() == 1, "{} twice", name(row.0));
        }
    }

    #[rstest]
    #[case(0x0000_0000, Reason::Fine)]
    #[case(0x0030_0000, Reason::Fine)]
    #[case(0x0000_0480, Reason::Fine)]
    #[case(0x4093_0000, Reason::SensorInaccurate)]
    #[case(0x4093_0100, Reason::SensorInaccurate)]
    #[case(0x4000_0000, Reason::SaidUncertain)]
    #[case(0x8000_0000, Reason::SaidBad)]
    #[case(0x8034_0000, Reason::NoSuchAddress)]
    #[case(0xffff_ffff, Reason::SaidBad)]
    fn codes_become_qualities(#[case] code: u32, #[case] reason: Reason) {
        assert_eq!(quality(StatusCode::from(code)).reason(), reason);
    }

    #[test]
    fn a_refused_login_is_no_refused_node() {
        let refused = at_login(error(StatusCode::BadUserAccessDenied, 1000));
        assert_eq!((refused.cure(), refused.reason(), refused.spares_connection()), (LOGIN, Reason::NotConnected, false));
        assert_eq!(refused.to_string(), "The server answered: the login is refused (BadUserAccessDenied).");
        assert_eq!(at_login(LinkError::Closed), LinkError::Closed);
    }

    #[test]
    fn what_the_server_answers_is_named() {
        let told = error(StatusCode::BadNodeIdUnknown, 1000).to_string();
        assert_eq!(told, "The server answered: it has no such node (BadNodeIdUnknown).");
        assert_eq!(name(StatusCode::from(0x8fff_0000)), "0x8FFF0000");
        assert_eq!(error(StatusCode::from(0x0000_0007), 1000), LinkError::Closed, "an end without a reason");
    }
}
