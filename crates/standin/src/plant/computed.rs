//! What the demo computes: how the works fare, from what its devices tell.

use super::Builder;
use havrel_core::{formula::Formula, plant::Kind};
use serde_json::json;

/// A computed tag: place, name, formula with tags by place and name, unit, decimals, range, note.
type Row = (&'static str, &'static str, &'static str, &'static str, u8, Option<(f64, f64)>, &'static str);

const ROWS: &[Row] = &[
    (
        "Extraction",
        "Vessels on hold",
        r#"(state(at("Extraction/EX-1/Phase")) == "Hold" ? 1 : 0) + (state(at("Extraction/EX-2/Phase")) == "Hold" ? 1 : 0) + (state(at("Extraction/EX-3/Phase")) == "Hold" ? 1 : 0) + (state(at("Extraction/EX-4/Phase")) == "Hold" ? 1 : 0)"#,
        "",
        0,
        Some((0.0, 4.0)),
        "More than two at once need more steam than the boiler gives.",
    ),
    (
        "Extraction/EX-1",
        "Temperature, mean of 10 min",
        r#"average(at("Extraction/EX-1/Temperature"), "10min")"#,
        "°C",
        1,
        Some((0.0, 100.0)),
        "",
    ),
    (
        "Extraction/EX-1",
        "Heating rate",
        r#"rate(at("Extraction/EX-1/Temperature"), "2min", "1min")"#,
        "",
        2,
        None,
        "In °C for each minute.",
    ),
    (
        "Drying/Belt dryer",
        "Hottest zone",
        r#"max(at("Drying/Belt dryer/Zone 1/Temperature"), at("Drying/Belt dryer/Zone 2/Temperature"), at("Drying/Belt dryer/Zone 3/Temperature"), at("Drying/Belt dryer/Zone 4/Temperature"))"#,
        "°C",
        1,
        Some((0.0, 120.0)),
        "",
    ),
    (
        "Drying/Mill",
        "Specific energy",
        r#"at("Drying/Mill/Product flow") > 50 ? at("Drying/Mill/Power") / at("Drying/Mill/Product flow") : 0"#,
        "kWh/kg",
        3,
        Some((0.0, 0.2)),
        "Rises while the rotor cakes.",
    ),
    (
        "Drying/Mill",
        "Product today",
        r#"total(at("Drying/Mill/Product flow"), "1h", hour() == 6)"#,
        "t",
        2,
        Some((0.0, 20.0)),
        "Since 06:00 UTC.",
    ),
    ("Drying/Mill", "Running hours", r#"hours(at("Drying/Mill/Running"))"#, "h", 1, None, ""),
    ("Drying/Mill", "Starts", r#"starts(at("Drying/Mill/Running"))"#, "", 0, None, ""),
    (
        "Utilities",
        "Electric power",
        r#"at("Utilities/Meter M1/Power") + at("Utilities/Meter M2/Power") + or_else(at("Utilities/Meter M3/Power"), 0)"#,
        "kW",
        1,
        Some((0.0, 400.0)),
        "Meter M3 is often read late; without it the others count.",
    ),
    (
        "Utilities",
        "Cost of electricity",
        r#"at("Utilities/Electric power") * at("Utilities/Price of electricity")"#,
        "€/h",
        2,
        Some((0.0, 100.0)),
        "",
    ),
    (
        "Effluent/Outlet",
        "Discharged today",
        r#"total(at("Effluent/Outlet/Flow"), hour() == 0)"#,
        "m³",
        1,
        Some((0.0, 3000.0)),
        "The permit allows 2,400 m³ a day, counted by UTC.",
    ),
    (
        "Effluent/Outlet",
        "Permit kept",
        r#"at("Effluent/Outlet/pH") >= 6.5 && at("Effluent/Outlet/pH") <= 8.5 && average(at("Effluent/Outlet/Turbidity"), "1h") < 40"#,
        "",
        0,
        None,
        "pH from 6.5 to 8.5, turbidity below 40 NTU in the mean of an hour.",
    ),
];

/// Adds the computed tags.
pub(super) fn computed(b: &mut Builder) {
    for (order, &(place, name, text, unit, decimals, range, note)) in ROWS.iter().enumerate() {
        let of = b.place(place);
        let find = |path: &str| path.rsplit_once('/').map(|(place, name)| b.tag(place, name)).filter(|id| !id.is_nil());
        // What is not found stays as it is written, and is told when the demo is loaded.
        let text = Formula::named(text, find).unwrap_or_else(|_| text.to_owned());
        let mut set = json!({"name": name, "place": of, "unit": unit, "decimals": decimals, "order": 60 + order, "note": note,
            "record": true, "formula": {"text": text}});
        if let Some((low, high)) = range {
            set["range_low"] = json!(low);
            set["range_high"] = json!(high);
        }
        let id = b.add(Kind::Tag, set);
        b.tags.insert((place.to_owned(), name.to_owned()), id);
    }
}
