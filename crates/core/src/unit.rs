//! Engineering units that are known by the open codes, and what converts them.
//!
//! A tag keeps its unit as it is printed (`°C`, `m³/h`). What is written by its UCUM code (`Cel`, `m3/h`) or its UN/CEFACT
//! Recommendation 20 common code (`CEL`, `MQH`) is the same unit. A unit that stands in no list may be used all the same; it
//! cannot be converted.

/// A unit of the list.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Unit {
    /// As it is printed.
    pub symbol: &'static str,
    pub name: &'static str,
    /// Code of the Unified Code for Units of Measure, case sensitive.
    pub ucum: &'static str,
    /// Common code of UN/CEFACT Recommendation 20; empty where it has none.
    pub common: &'static str,
    /// What is measured in it; units of one quantity convert into each other.
    pub quantity: &'static str,
    /// In the coherent unit of its quantity: value × factor + offset.
    pub factor: f64,
    pub offset: f64,
}

const fn unit(
    quantity: &'static str,
    symbol: &'static str,
    name: &'static str,
    ucum: &'static str,
    common: &'static str,
    factor: f64,
) -> Unit {
    Unit { symbol, name, ucum, common, quantity, factor, offset: 0.0 }
}

const PI: f64 = std::f64::consts::PI;
const FOOT: f64 = 0.3048;
const CUBIC_FOOT: f64 = FOOT * FOOT * FOOT;
const POUND: f64 = 0.453_592_37;
const GALLON: f64 = 0.003_785_411_784;
const IMPERIAL_GALLON: f64 = 0.004_546_09;
const STANDARD_GRAVITY: f64 = 9.806_65;
const HOUR: f64 = 3600.0;
const DAY: f64 = 86_400.0;

/// The list, by quantity. Factors are exact by definition (SI brochure, 9th edition; NIST SP 811 appendix B) except where the
/// definition itself is conventional (mmHg, inH₂O).
pub const UNITS: &[Unit] = &[
    Unit { offset: 273.15, ..unit("temperature", "°C", "degree Celsius", "Cel", "CEL", 1.0) },
    unit("temperature", "K", "kelvin", "K", "KEL", 1.0),
    Unit { offset: 459.67 * 5.0 / 9.0, ..unit("temperature", "°F", "degree Fahrenheit", "[degF]", "FAH", 5.0 / 9.0) },
    unit("pressure", "bar", "bar", "bar", "BAR", 1e5),
    unit("pressure", "mbar", "millibar", "mbar", "MBR", 100.0),
    unit("pressure", "Pa", "pascal", "Pa", "PAL", 1.0),
    unit("pressure", "hPa", "hectopascal", "hPa", "A97", 100.0),
    unit("pressure", "kPa", "kilopascal", "kPa", "KPA", 1e3),
    unit("pressure", "MPa", "megapascal", "MPa", "MPA", 1e6),
    unit("pressure", "psi", "pound-force per square inch", "[psi]", "PS", POUND * STANDARD_GRAVITY / (0.0254 * 0.0254)),
    unit("pressure", "atm", "standard atmosphere", "atm", "ATM", 101_325.0),
    unit("pressure", "mmHg", "millimetre of mercury", "mm[Hg]", "HN", 133.322_387_415),
    unit("pressure", "inHg", "inch of mercury", "[in_i'Hg]", "F79", 3_386.388_640_341),
    unit("pressure", "mmH₂O", "millimetre of water", "mm[H2O]", "HP", STANDARD_GRAVITY),
    unit("pressure", "inH₂O", "inch of water", "[in_i'H2O]", "F78", STANDARD_GRAVITY * 25.4),
    unit("volume flow", "m³/h", "cubic metre per hour", "m3/h", "MQH", 1.0 / HOUR),
    unit("volume flow", "m³/s", "cubic metre per second", "m3/s", "MQS", 1.0),
    unit("volume flow", "m³/min", "cubic metre per minute", "m3/min", "", 1.0 / 60.0),
    unit("volume flow", "m³/d", "cubic metre per day", "m3/d", "G52", 1.0 / DAY),
    unit("volume flow", "L/h", "litre per hour", "L/h", "E32", 1e-3 / HOUR),
    unit("volume flow", "L/min", "litre per minute", "L/min", "L2", 1e-3 / 60.0),
    unit("volume flow", "L/s", "litre per second", "L/s", "G51", 1e-3),
    unit("volume flow", "mL/min", "millilitre per minute", "mL/min", "41", 1e-6 / 60.0),
    unit("volume flow", "gal/min", "US gallon per minute", "[gal_us]/min", "G2", GALLON / 60.0),
    unit("volume flow", "ft³/min", "cubic foot per minute", "[cft_i]/min", "2L", CUBIC_FOOT / 60.0),
    unit("volume flow", "ft³/h", "cubic foot per hour", "[cft_i]/h", "2K", CUBIC_FOOT / HOUR),
    unit("mass flow", "kg/h", "kilogram per hour", "kg/h", "E93", 1.0 / HOUR),
    unit("mass flow", "kg/min", "kilogram per minute", "kg/min", "F31", 1.0 / 60.0),
    unit("mass flow", "kg/s", "kilogram per second", "kg/s", "KGS", 1.0),
    unit("mass flow", "g/min", "gram per minute", "g/min", "", 1e-3 / 60.0),
    unit("mass flow", "t/h", "tonne per hour", "t/h", "E18", 1e3 / HOUR),
    unit("mass flow", "t/d", "tonne per day", "t/d", "", 1e3 / DAY),
    unit("mass flow", "lb/h", "pound per hour", "[lb_av]/h", "4U", POUND / HOUR),
    unit("share", "%", "per cent", "%", "P1", 0.01),
    unit("share", "‰", "per mille", "[ppth]", "NX", 1e-3),
    unit("share", "ppm", "parts per million", "[ppm]", "59", 1e-6),
    unit("share", "ppb", "parts per billion", "[ppb]", "61", 1e-9),
    unit("acidity", "pH", "pH value", "[pH]", "Q30", 1.0),
    unit("length", "m", "metre", "m", "MTR", 1.0),
    unit("length", "mm", "millimetre", "mm", "MMT", 1e-3),
    unit("length", "cm", "centimetre", "cm", "CMT", 1e-2),
    unit("length", "km", "kilometre", "km", "KMT", 1e3),
    unit("length", "µm", "micrometre", "um", "4H", 1e-6),
    unit("length", "in", "inch", "[in_i]", "INH", 0.0254),
    unit("length", "ft", "foot", "[ft_i]", "FOT", FOOT),
    unit("area", "m²", "square metre", "m2", "MTK", 1.0),
    unit("area", "cm²", "square centimetre", "cm2", "CMK", 1e-4),
    unit("area", "mm²", "square millimetre", "mm2", "MMK", 1e-6),
    unit("area", "ha", "hectare", "har", "HAR", 1e4),
    unit("area", "ft²", "square foot", "[sft_i]", "FTK", FOOT * FOOT),
    unit("volume", "m³", "cubic metre", "m3", "MTQ", 1.0),
    unit("volume", "L", "litre", "L", "LTR", 1e-3),
    unit("volume", "mL", "millilitre", "mL", "MLT", 1e-6),
    unit("volume", "hL", "hectolitre", "hL", "HLT", 0.1),
    unit("volume", "cm³", "cubic centimetre", "cm3", "CMQ", 1e-6),
    unit("volume", "ft³", "cubic foot", "[cft_i]", "FTQ", CUBIC_FOOT),
    unit("volume", "gal", "US gallon", "[gal_us]", "GLL", GALLON),
    unit("volume", "gal (UK)", "imperial gallon", "[gal_br]", "GLI", IMPERIAL_GALLON),
    unit("volume", "bbl", "barrel of 42 US gallons", "[bbl_us]", "BLL", GALLON * 42.0),
    unit("mass", "kg", "kilogram", "kg", "KGM", 1.0),
    unit("mass", "g", "gram", "g", "GRM", 1e-3),
    unit("mass", "mg", "milligram", "mg", "MGM", 1e-6),
    unit("mass", "t", "tonne", "t", "TNE", 1e3),
    unit("mass", "lb", "pound", "[lb_av]", "LBR", POUND),
    unit("mass", "oz", "ounce", "[oz_av]", "ONZ", POUND / 16.0),
    unit("time", "s", "second", "s", "SEC", 1.0),
    unit("time", "ms", "millisecond", "ms", "C26", 1e-3),
    unit("time", "µs", "microsecond", "us", "B98", 1e-6),
    unit("time", "min", "minute", "min", "MIN", 60.0),
    unit("time", "h", "hour", "h", "HUR", HOUR),
    unit("time", "d", "day", "d", "DAY", DAY),
    unit("frequency", "Hz", "hertz", "Hz", "HTZ", 1.0),
    unit("frequency", "kHz", "kilohertz", "kHz", "KHZ", 1e3),
    unit("frequency", "MHz", "megahertz", "MHz", "MHZ", 1e6),
    unit("rotational speed", "rpm", "revolution per minute", "{rev}/min", "RPM", 1.0 / 60.0),
    unit("rotational speed", "r/s", "revolution per second", "{rev}/s", "RPS", 1.0),
    unit("speed", "m/s", "metre per second", "m/s", "MTS", 1.0),
    unit("speed", "m/min", "metre per minute", "m/min", "2X", 1.0 / 60.0),
    unit("speed", "m/h", "metre per hour", "m/h", "M60", 1.0 / HOUR),
    unit("speed", "mm/s", "millimetre per second", "mm/s", "C16", 1e-3),
    unit("speed", "km/h", "kilometre per hour", "km/h", "KMH", 1.0 / 3.6),
    unit("speed", "ft/min", "foot per minute", "[ft_i]/min", "FR", FOOT / 60.0),
    unit("acceleration", "m/s²", "metre per second squared", "m/s2", "MSK", 1.0),
    unit("force", "N", "newton", "N", "NEW", 1.0),
    unit("force", "kN", "kilonewton", "kN", "B47", 1e3),
    unit("torque", "N·m", "newton metre", "N.m", "NU", 1.0),
    unit("density", "kg/m³", "kilogram per cubic metre", "kg/m3", "KMQ", 1.0),
    unit("density", "g/cm³", "gram per cubic centimetre", "g/cm3", "23", 1e3),
    unit("density", "kg/L", "kilogram per litre", "kg/L", "B35", 1e3),
    unit("density", "g/L", "gram per litre", "g/L", "GL", 1.0),
    unit("density", "mg/L", "milligram per litre", "mg/L", "M1", 1e-3),
    unit("density", "µg/L", "microgram per litre", "ug/L", "H29", 1e-6),
    unit("dynamic viscosity", "Pa·s", "pascal second", "Pa.s", "C65", 1.0),
    unit("dynamic viscosity", "mPa·s", "millipascal second", "mPa.s", "C24", 1e-3),
    unit("kinematic viscosity", "m²/s", "square metre per second", "m2/s", "S4", 1.0),
    unit("kinematic viscosity", "mm²/s", "square millimetre per second", "mm2/s", "C17", 1e-6),
    unit("power", "kW", "kilowatt", "kW", "KWT", 1e3),
    unit("power", "W", "watt", "W", "WTT", 1.0),
    unit("power", "MW", "megawatt", "MW", "MAW", 1e6),
    unit("apparent power", "kVA", "kilovolt ampere", "kV.A", "KVA", 1e3),
    unit("apparent power", "VA", "volt ampere", "V.A", "D46", 1.0),
    unit("apparent power", "MVA", "megavolt ampere", "MV.A", "MVA", 1e6),
    unit("energy", "kWh", "kilowatt hour", "kW.h", "KWH", 3.6e6),
    unit("energy", "Wh", "watt hour", "W.h", "WHR", HOUR),
    unit("energy", "MWh", "megawatt hour", "MW.h", "MWH", 3.6e9),
    unit("energy", "J", "joule", "J", "JOU", 1.0),
    unit("energy", "kJ", "kilojoule", "kJ", "KJO", 1e3),
    unit("energy", "MJ", "megajoule", "MJ", "3B", 1e6),
    unit("energy", "GJ", "gigajoule", "GJ", "GV", 1e9),
    unit("voltage", "V", "volt", "V", "VLT", 1.0),
    unit("voltage", "mV", "millivolt", "mV", "2Z", 1e-3),
    unit("voltage", "kV", "kilovolt", "kV", "KVT", 1e3),
    unit("current", "A", "ampere", "A", "AMP", 1.0),
    unit("current", "mA", "milliampere", "mA", "4K", 1e-3),
    unit("current", "kA", "kiloampere", "kA", "B22", 1e3),
    unit("resistance", "Ω", "ohm", "Ohm", "OHM", 1.0),
    unit("resistance", "kΩ", "kiloohm", "kOhm", "B49", 1e3),
    unit("resistance", "MΩ", "megaohm", "MOhm", "B75", 1e6),
    unit("conductivity", "S/m", "per ohm metre", "S/m", "D10", 1.0),
    unit("conductivity", "mS/cm", "millisiemens per centimetre", "mS/cm", "H61", 0.1),
    unit("conductivity", "µS/cm", "microsiemens per centimetre", "uS/cm", "G42", 1e-4),
    unit("concentration", "mol/L", "mole per litre", "mol/L", "C38", 1e3),
    unit("concentration", "mmol/L", "millimole per litre", "mmol/L", "M33", 1.0),
    unit("angle", "°", "degree", "deg", "DD", PI / 180.0),
    unit("angle", "rad", "radian", "rad", "C81", 1.0),
    unit("illuminance", "lx", "lux", "lx", "LUX", 1.0),
    unit("irradiance", "W/m²", "watt per square metre", "W/m2", "D54", 1.0),
    unit("sound level", "dB", "decibel", "dB", "2N", 1.0),
];

/// The unit of this symbol, UCUM code or common code; `None` where the list has none.
pub fn find(text: &str) -> Option<&'static Unit> {
    let text = text.trim();
    if text.is_empty() {
        return None;
    }
    let by = |code: fn(&Unit) -> &'static str| UNITS.iter().find(|u| code(u) == text);
    by(|u| u.symbol).or_else(|| by(|u| u.ucum)).or_else(|| by(|u| u.common))
}

impl Unit {
    /// A value of this unit in another one; `None` where they measure different things.
    pub fn convert(&self, value: f64, to: &Unit) -> Option<f64> {
        // Factor and offset apart, so that what is equal stays equal to the last digit.
        (self.quantity == to.quantity)
            .then(|| if self == to { value } else { (value * self.factor + (self.offset - to.offset)) / to.factor })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;
    use std::collections::HashMap;

    #[rstest]
    #[case("°C", 100.0, "°F", 212.0)]
    #[case("°F", -40.0, "°C", -40.0)]
    #[case("Cel", 0.0, "KEL", 273.15)]
    #[case("bar", 1.0, "psi", 14.503_773_773)]
    #[case("psi", 1.0, "Pa", 6_894.757_293)]
    #[case("inH₂O", 1.0, "Pa", 249.088_91)]
    #[case("m³/h", 1.0, "L/min", 16.666_666_667)]
    #[case("gal/min", 1.0, "m³/h", 0.227_124_707)]
    #[case("t/h", 3.6, "kg/s", 1.0)]
    #[case("kWh", 1.0, "MJ", 3.6)]
    #[case("mS/cm", 1.0, "µS/cm", 1000.0)]
    #[case("ft³/min", 1.0, "m³/h", 1.699_010_796)]
    #[case("%", 1.0, "ppm", 10_000.0)]
    #[case("°", 180.0, "rad", PI)]
    #[case("lb/h", 1.0, "kg/h", 0.453_592_37)]
    #[case("km/h", 36.0, "m/s", 10.0)]
    fn known_pairs_agree_with_the_tables(#[case] from: &str, #[case] value: f64, #[case] to: &str, #[case] wanted: f64) {
        let got = find(from).unwrap().convert(value, find(to).unwrap()).unwrap();
        assert!((got - wanted).abs() <= wanted.abs() * 1e-9 + 1e-9, "{got} is not {wanted}");
    }

    #[test]
    fn no_text_means_two_units() {
        let mut meanings: HashMap<&str, &Unit> = HashMap::new();
        for unit in UNITS {
            assert!(!unit.symbol.is_empty() && !unit.ucum.is_empty() && unit.symbol.chars().count() <= 24, "{unit:?}");
            assert!(unit.factor > 0.0 && unit.factor.is_finite());
            for text in [unit.symbol, unit.ucum, unit.common].into_iter().filter(|t| !t.is_empty()) {
                let other = meanings.insert(text, unit);
                assert!(other.is_none_or(|o| o == unit), "“{text}” means {} and {}", unit.name, other.unwrap().name);
                assert_eq!(find(text), Some(unit));
            }
        }
        assert_eq!((find(""), find("furlong"), find("cel")), (None, None, None));
    }

    #[test]
    fn what_differs_in_kind_does_not_convert() {
        assert_eq!(find("°C").unwrap().convert(1.0, find("bar").unwrap()), None);
        assert_eq!(find("Hz").unwrap().convert(1.0, find("rpm").unwrap()), None);
    }

    proptest! {
        /// There and back is the same value, for every pair that converts.
        #[test]
        fn there_and_back(a in 0..UNITS.len(), b in 0..UNITS.len(), value in -1e6..1e6f64) {
            let (a, b) = (&UNITS[a], &UNITS[b]);
            if let Some(there) = a.convert(value, b) {
                let back = b.convert(there, a).unwrap();
                // An offset of some hundred kelvin costs its share of the digits.
                prop_assert!((back - value).abs() <= value.abs() * 1e-9 + 1e-6, "{value} {} -> {there} {} -> {back}", a.symbol, b.symbol);
            }
        }
    }
}
