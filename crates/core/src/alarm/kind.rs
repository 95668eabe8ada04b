//! The kinds of alarm rules.

use serde::{Deserialize, Serialize};

/// The four limits of a process value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum LimitKind {
    LowLow,
    Low,
    High,
    HighHigh,
}

impl LimitKind {
    /// Every kind, the lowest first.
    pub const ALL: [LimitKind; 4] = [LimitKind::LowLow, LimitKind::Low, LimitKind::High, LimitKind::HighHigh];

    /// Whether the alarm lies above the level.
    pub const fn is_high(self) -> bool {
        matches!(self, LimitKind::High | LimitKind::HighHigh)
    }

    /// As a kind of rule.
    pub const fn rule(self) -> RuleKind {
        match self {
            LimitKind::LowLow => RuleKind::LowLow,
            LimitKind::Low => RuleKind::Low,
            LimitKind::High => RuleKind::High,
            LimitKind::HighHigh => RuleKind::HighHigh,
        }
    }

    /// As it reads in a sentence: “Level high”.
    pub const fn words(self) -> &'static str {
        self.rule().words()
    }
}

/// What a rule looks for (the alarm types of ISA-18.2-2016 table 3, as far as they are made of values).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RuleKind {
    LowLow,
    Low,
    High,
    HighHigh,
    /// The value is away from its setpoint.
    Deviation,
    /// The value moves fast.
    Rate,
    /// The value is one of some states.
    State,
    /// An expression is true.
    Expression,
    /// The value is not to be trusted.
    BadQuality,
    /// The value stays as it is.
    NoChange,
}

impl RuleKind {
    /// Every kind, in the order in which they are offered.
    pub const ALL: [RuleKind; 10] = [
        RuleKind::HighHigh,
        RuleKind::High,
        RuleKind::Low,
        RuleKind::LowLow,
        RuleKind::Deviation,
        RuleKind::Rate,
        RuleKind::State,
        RuleKind::Expression,
        RuleKind::BadQuality,
        RuleKind::NoChange,
    ];

    /// Which limit it is, if it is one.
    pub const fn limit(self) -> Option<LimitKind> {
        match self {
            RuleKind::LowLow => Some(LimitKind::LowLow),
            RuleKind::Low => Some(LimitKind::Low),
            RuleKind::High => Some(LimitKind::High),
            RuleKind::HighHigh => Some(LimitKind::HighHigh),
            _ => None,
        }
    }

    /// Whether a number is compared with a level.
    pub const fn has_level(self) -> bool {
        self.limit().is_some() || matches!(self, RuleKind::Deviation | RuleKind::Rate)
    }

    /// As people read it, and as a rule without a name of its own is known.
    pub const fn words(self) -> &'static str {
        match self {
            RuleKind::LowLow => "low low",
            RuleKind::Low => "low",
            RuleKind::High => "high",
            RuleKind::HighHigh => "high high",
            RuleKind::Deviation => "deviation",
            RuleKind::Rate => "rate of change",
            RuleKind::State => "state",
            RuleKind::Expression => "expression",
            RuleKind::BadQuality => "bad quality",
            RuleKind::NoChange => "no change",
        }
    }
}
