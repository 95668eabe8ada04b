//! Sparkplug B: what edge nodes publish.

pub mod payload;
