//! How far a value may be trusted: a class (good, uncertain, bad) with a reason.

use serde::{Deserialize, Serialize};

/// The three classes of the open field protocols.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Class {
    Good,
    Uncertain,
    Bad,
}

macro_rules! reasons {
    ($($(#[$doc:meta])* $name:ident = $code:literal, $class:ident, $words:literal;)+) => {
        /// Why a value has its class. The code is stored and never changes its meaning.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
        #[repr(u8)]
        pub enum Reason { $($(#[$doc])* $name = $code,)+ }

        impl Reason {
            /// Every reason there is.
            pub const ALL: &'static [Reason] = &[$(Reason::$name),+];

            /// The class this reason belongs to.
            pub const fn class(self) -> Class { match self { $(Reason::$name => Class::$class,)+ } }

            /// What a person reads when they ask why.
            pub const fn words(self) -> &'static str { match self { $(Reason::$name => $words,)+ } }

            fn from_code(code: u8) -> Option<Reason> { match code { $($code => Some(Reason::$name),)+ _ => None } }
        }
    };
}

reasons! {
    /// Nothing is wrong.
    Fine = 0, Good, "good";
    /// Somebody set it by hand; what the source says does not show meanwhile.
    ByHand = 24, Good, "set by hand";
    /// The source's clock is ahead of ours by more than the tolerance, so the time of arrival stands in.
    ClockAhead = 1, Uncertain, "the source's clock is ahead; the time of arrival is used";
    /// The source's clock reads a time before the year 2000, so the time of arrival stands in.
    ClockUnset = 25, Uncertain, "the source's clock is not set; the time of arrival is used";
    /// The value lies outside the range its scaling allows and was clamped.
    Clamped = 2, Uncertain, "outside its scaled range";
    /// Nothing has been read since the tag was made or the program started.
    NotRead = 10, Bad, "not read yet";
    /// The device did not answer in time.
    NoAnswer = 11, Bad, "no answer from the device";
    /// There is no working connection to the device.
    NotConnected = 12, Bad, "not connected";
    /// The device says that this address does not exist (exception 2).
    NoSuchAddress = 13, Bad, "the device has no such address";
    /// The device refused the request for another reason (any other exception).
    Refused = 14, Bad, "the device refused the request";
    /// The answer did not fit the request.
    WrongAnswer = 15, Bad, "the device's answer did not fit the request";
    /// The connection is switched off.
    SwitchedOff = 16, Bad, "the connection is switched off";
    /// The tag has no source, or its address cannot be read.
    NoSource = 17, Bad, "the tag has no source it can be read from";
    /// The polling group of the tag is paused.
    Paused = 19, Bad, "its polling group is paused";
    /// Nobody has set or sent a value yet.
    NotSet = 20, Uncertain, "no value was set or sent yet";
    /// Whoever sent the value says that it is uncertain.
    SaidUncertain = 21, Uncertain, "the sender says that it is uncertain";
    /// Whoever sent the value says that it is bad.
    SaidBad = 22, Bad, "the sender says that it is bad";
    /// A place at or above the tag's is out of service.
    OutOfService = 23, Bad, "out of service";
    /// The source has no connection to the device that measures (OPC UA Part 8, BadNotConnected).
    SourceNotConnected = 26, Bad, "the server is not connected to the device";
    /// OPC UA Part 8, BadSensorFailure.
    SensorFailure = 27, Bad, "the sensor failed";
    /// OPC UA Part 8, BadDeviceFailure.
    DeviceFailure = 28, Bad, "the device failed";
    /// Whatever updated the value stopped doing so (OPC UA Part 8, UncertainLastUsableValue).
    LastUsable = 29, Uncertain, "the last usable value; the source gets no newer one";
    /// OPC UA Part 8, UncertainSubstituteValue.
    Substitute = 30, Uncertain, "a substitute value";
    /// OPC UA Part 8, UncertainInitialValue.
    Initial = 31, Uncertain, "an initial value; nothing was measured yet";
    /// OPC UA Part 8, UncertainSensorNotAccurate.
    SensorInaccurate = 32, Uncertain, "the sensor is not accurate";
    /// OPC UA Part 8, UncertainEngineeringUnitsExceeded.
    RangeExceeded = 33, Uncertain, "outside the range that its source states";
    /// Made from fewer good sources than it needs (OPC UA Part 8, UncertainSubNormal).
    SubNormal = 34, Uncertain, "made from fewer good sources than it needs";
    /// OPC UA Part 4, BadWaitingForInitialData.
    WaitingForData = 35, Bad, "the server waits for the first value";
    /// OPC UA Part 8, BadOutOfService.
    SourceOutOfService = 36, Bad, "out of service at its source";
    /// OPC UA Part 8, BadConfigurationError.
    SourceConfiguration = 37, Bad, "the source is configured wrongly";
    /// OPC UA Part 8, GoodLocalOverride.
    LocalOverride = 38, Good, "forced at its source";
    /// The user whom the connection logs in as may not read it.
    NotReadable = 39, Bad, "the login may not read it";
    /// The value is of a type that no tag holds.
    NoSuchType = 40, Bad, "the value is of a type that no tag holds";
    /// No message came on the topic since the program started, and the broker retains none.
    NeverHeard = 41, Uncertain, "no message came yet, and none is retained";
    /// Messages came before the connection was lost; the broker retains none, so what holds now is told by the next one.
    NotRetained = 42, Uncertain, "nothing came since the connection is back, and no message is retained";
    /// Longer silent than the tag allows.
    SilentTooLong = 43, Uncertain, "silent for longer than allowed";
    /// A retained message without a time of its own.
    Retained = 44, Uncertain, "retained by the broker; nobody knows since when";
    /// The message is not of the form that the tag expects, or lacks what the tag reads.
    DoesNotFit = 45, Bad, "the message does not fit";
    /// The sender says that there is no value at present.
    NoValue = 46, Bad, "the sender has no value at present";
    /// Its edge node or device told that it is gone, or the broker did (Eclipse Sparkplug 3.0, 6.4.8).
    NodeOffline = 47, Bad, "its edge node or device is offline";
    /// The last birth of its edge node or device lacks it.
    NotAnnounced = 48, Bad, "its edge node or device announces no such metric";
    /// An input of the tag's formula is bad.
    BadInput = 49, Bad, "an input of its formula is bad";
    /// The tag's formula gives no value, for example because it divides by zero.
    NoResult = 50, Bad, "its formula gives no value";
    /// An input of the tag's formula is uncertain.
    UncertainInput = 51, Uncertain, "an input of its formula is uncertain";
    /// A formula counts over a time in which its input was not always known.
    PartMissing = 52, Uncertain, "part of what its formula counts is missing";
    /// An input of the tag's formula lies beyond 2^53, where an f64 does not hold every whole number.
    InputDigits = 53, Uncertain, "an input has more digits than its formula keeps";
    /// Made from recorded values afterwards, when its formula was new.
    ComputedLater = 54, Good, "computed later from recorded values";
    /// Looked back to an instant of which nothing is stored.
    NotRecorded = 55, Bad, "nothing was recorded of it at that time";
    /// A figure of a span in which the value was not always known.
    PartKnown = 56, Uncertain, "the value was known for part of the span only";
    /// The bytes do not make a value of the tag's type, for example a float that is not a number.
    NotANumber = 18, Bad, "the device sent something that is not a number";
}

/// Class and reason in 16 bits: the class in the high byte, the reason in the low one.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Quality(u16);

impl Quality {
    /// Nothing is wrong.
    pub const GOOD: Quality = Quality::of(Reason::Fine);

    /// The quality that a reason stands for.
    pub const fn of(reason: Reason) -> Quality {
        Quality(((reason.class() as u16) << 8) | reason as u16)
    }

    /// The stored 16 bits.
    pub const fn bits(self) -> u16 {
        self.0
    }

    /// Reads stored bits; `None` where class and reason do not belong together.
    pub fn from_bits(bits: u16) -> Option<Quality> {
        let quality = Quality::of(Reason::from_code(bits as u8)?);
        (quality.0 == bits).then_some(quality)
    }

    /// Why.
    pub fn reason(self) -> Reason {
        Reason::from_code(self.0 as u8).unwrap_or(Reason::WrongAnswer)
    }

    /// How far to trust it.
    pub fn class(self) -> Class {
        self.reason().class()
    }

    /// Whether the value must not be used for anything.
    pub fn is_bad(self) -> bool {
        self.class() == Class::Bad
    }

    /// Whether it is neither good nor bad.
    pub fn is_uncertain(self) -> bool {
        self.class() == Class::Uncertain
    }
}

impl std::fmt::Debug for Quality {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{:?}/{:?}", self.class(), self.reason())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bits_round_trip_and_strangers_are_refused() {
        for &reason in Reason::ALL {
            let quality = Quality::of(reason);
            assert_eq!(Quality::from_bits(quality.bits()), Some(quality));
            assert_eq!(quality.reason(), reason);
        }
        assert_eq!(Quality::from_bits(0x0200), None, "bad without a bad reason");
        assert_eq!(Quality::from_bits(0x00ff), None);
    }
}
