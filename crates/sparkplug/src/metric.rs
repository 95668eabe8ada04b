//! What a metric tells beyond its value: a part of it, its unit and range; and how a value is put into one.

use crate::payload::{BOOLEAN, DATE_TIME, INTEGERS, Metric, MetricValue, PropertyContent, Template};
use havrel_core::{
    quality::Reason,
    sample::Value,
    time::{MILLI, from_text},
};
use serde_json::Value as Json;

/// Where a property tells a unit, the ends of a range, a description or whether it is read only. The standard names none of these,
/// so those in use are understood; case, spaces and marks between words do not count.
const UNIT: &[&str] = &["unit", "units", "engunit", "engineeringunit", "engineeringunits"];
const LOW: &[&str] = &["low", "min", "minimum", "rangelow", "englow"];
const HIGH: &[&str] = &["high", "max", "maximum", "rangehigh", "enghigh"];
const DESCRIPTION: &[&str] = &["description", "documentation"];
const READ_ONLY: &[&str] = &["readonly"];
/// Longest text of a property that is taken, in characters.
const LONGEST: usize = 200;

/// Metrics by which the protocol itself is run, which are no values of a plant: one by its name, others by what their names begin with.
const SEQUENCE: &str = "bdSeq";
const COMMANDS: [&str; 2] = ["Node Control/", "Device Control/"];

/// Whether a metric of this name serves the protocol only (Eclipse Sparkplug 3.0, 6.4.18).
pub fn is_of_protocol(name: &str) -> bool {
    name == SEQUENCE || COMMANDS.iter().any(|begin| name.starts_with(begin))
}

/// What a birth tells of a metric beside its value.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct About {
    pub unit: String,
    pub low: Option<f64>,
    pub high: Option<f64>,
    pub description: String,
    /// Whether it can be written; unsaid where the birth does not tell.
    pub writable: Option<bool>,
}

impl About {
    /// Both ends of the range, where they are in order.
    pub fn range(&self) -> Option<(f64, f64)> {
        self.low.zip(self.high).filter(|(low, high)| low < high)
    }

    /// Reads it from the properties of a metric.
    pub fn of(metric: &Metric) -> About {
        let text = |names: &[&str]| match property(metric, names) {
            Some(PropertyContent::Text(text)) => text.trim().chars().filter(|c| !c.is_control()).take(LONGEST).collect(),
            _ => String::new(),
        };
        let number = |names: &[&str]| match property(metric, names)? {
            PropertyContent::Float(v) => Some(f64::from(*v)),
            PropertyContent::Double(v) => Some(*v),
            PropertyContent::Int(v) => Some(f64::from(*v as i32)),
            PropertyContent::Long(v) => Some(*v as i64 as f64),
            PropertyContent::Text(text) => text.trim().parse().ok(),
            PropertyContent::Boolean(_) => None,
        };
        let finite = |names| number(names).filter(|v: &f64| v.is_finite());
        let told = metric.metadata.as_ref().and_then(|data| data.description.clone()).unwrap_or_default();
        let description = text(DESCRIPTION);
        About {
            unit: text(UNIT),
            low: finite(LOW),
            high: finite(HIGH),
            description: if description.is_empty() { told.chars().take(LONGEST).collect() } else { description },
            writable: match property(metric, READ_ONLY) {
                Some(PropertyContent::Boolean(read_only)) => Some(!read_only),
                _ => None,
            },
        }
    }
}

fn property<'a>(metric: &'a Metric, names: &[&str]) -> Option<&'a PropertyContent> {
    let set = metric.properties.as_ref()?;
    let plain = |key: &String| key.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect::<String>();
    let at = set.keys.iter().position(|key| names.contains(&plain(key).as_str()))?;
    set.values.get(at).filter(|value| value.is_null != Some(true))?.value.as_ref()
}

impl Metric {
    /// The instance of a structure that it carries.
    pub fn instance(&self) -> Option<&Template> {
        match &self.value {
            Some(MetricValue::Template(template)) if template.is_definition != Some(true) => Some(template),
            _ => None,
        }
    }

    /// Whether it only tells what a structure is made of.
    pub fn is_definition(&self) -> bool {
        matches!(&self.value, Some(MetricValue::Template(template)) if template.is_definition == Some(true))
    }

    /// A part of its value: a member of a structure, a row and a column of a data set, an element of an array. `born` is the type
    /// that its birth told.
    ///
    /// # Errors
    /// Why there is none.
    pub fn part(&self, part: &[String], born: Option<u32>) -> Result<Value, Reason> {
        let Some((first, rest)) = part.split_first() else { return self.read(born) };
        if self.is_null == Some(true) {
            return Err(Reason::NoValue);
        }
        match self.value.as_ref().ok_or(Reason::NoValue)? {
            MetricValue::Template(template) => {
                let member = template.metrics.iter().find(|metric| metric.name.as_deref() == Some(first));
                member.ok_or(Reason::DoesNotFit)?.part(rest, None)
            }
            MetricValue::DataSet(set) => within(&set.show(), part),
            MetricValue::Bytes(_) => match self.read(born)? {
                Value::Text(text) => within(&serde_json::from_str(&text).map_err(|_| Reason::DoesNotFit)?, part),
                _ => Err(Reason::DoesNotFit),
            },
            _ => Err(Reason::DoesNotFit),
        }
    }

    /// Whether a message tells this part: one that carries an instance in parts leaves members out.
    pub fn tells(&self, part: &[String]) -> bool {
        match (part.split_first(), self.instance()) {
            (Some((first, rest)), Some(instance)) => {
                let member = instance.metrics.iter().find(|metric| metric.name.as_deref() == Some(first));
                member.is_some_and(|member| member.tells(rest))
            }
            _ => true,
        }
    }

    /// A metric of this name that carries a value in its type, for a command.
    ///
    /// # Errors
    /// Words for whoever writes, where it does not fit.
    pub fn carrying(name: &str, datatype: u32, value: &Value) -> Result<Metric, String> {
        let carried = carried(datatype, value)?;
        Ok(Metric { name: Some(name.to_owned()), datatype: Some(datatype), value: Some(carried), ..Metric::default() })
    }
}

/// A part of a document.
fn within<'a>(document: &'a Json, part: &[String]) -> Result<Value, Reason> {
    let step = |at: &'a Json, step: &String| match at {
        Json::Array(list) => list.get(step.parse::<usize>().ok()?),
        other => other.get(step.as_str()),
    };
    match part.iter().try_fold(document, step) {
        None => Err(Reason::DoesNotFit),
        Some(Json::Null) => Err(Reason::NoValue),
        Some(Json::Bool(on)) => Ok(Value::Bool(*on)),
        Some(Json::Number(number)) => Ok(match (number.as_i64(), number.as_u64()) {
            (Some(whole), _) => Value::I64(whole),
            (None, Some(whole)) => Value::U64(whole),
            _ => Value::F64(number.as_f64().unwrap_or(f64::NAN)),
        }),
        Some(Json::String(text)) => Ok(Value::Text(text.clone())),
        Some(other) => Ok(Value::Text(other.to_string())),
    }
}

fn carried(datatype: u32, value: &Value) -> Result<MetricValue, String> {
    let number = || value.number().filter(|v| v.is_finite()).ok_or("The metric takes a number.");
    if let Some(&(_, name, bits, signed)) = INTEGERS.iter().find(|(which, ..)| *which == datatype) {
        let whole = match value {
            Value::I64(v) => i128::from(*v),
            Value::U64(v) => i128::from(*v),
            _ => Some(number()?).filter(|v| v.fract() == 0.0).map(|v| v as i128).ok_or("The metric takes a whole number.")?,
        };
        let (low, high) = if signed { (-(1_i128 << (bits - 1)), (1 << (bits - 1)) - 1) } else { (0, (1_i128 << bits) - 1) };
        if !(low..=high).contains(&whole) {
            return Err(format!("The metric takes {low} to {high} ({name})."));
        }
        return Ok(if bits == 64 { MetricValue::Long(whole as u64) } else { MetricValue::Int(whole as u32) });
    }
    match datatype {
        9 => Ok(MetricValue::Float(number()? as f32)),
        10 => Ok(MetricValue::Double(number()?)),
        BOOLEAN => match number()? {
            0.0 => Ok(MetricValue::Boolean(false)),
            1.0 => Ok(MetricValue::Boolean(true)),
            _ => Err("The metric is on or off.".into()),
        },
        12 | 14 | 15 => match value {
            Value::Text(text) => Ok(MetricValue::Text(text.clone())),
            other => Ok(MetricValue::Text(other.text())),
        },
        DATE_TIME => {
            let Value::Text(text) = value else { return Err("The metric takes a time such as 2026-11-29T08:00:00Z.".into()) };
            Ok(MetricValue::Long((from_text(text)?.max(0) / MILLI) as u64))
        }
        _ => Err("A metric of this type cannot be written.".into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::payload::{DataSet, PropertySet, PropertyValue, Row};
    use rstest::rstest;

    fn properties(all: &[(&str, PropertyContent)]) -> Metric {
        let value = |content: &PropertyContent| PropertyValue { value: Some(content.clone()), ..PropertyValue::default() };
        let set = PropertySet {
            keys: all.iter().map(|(key, _)| (*key).to_owned()).collect(),
            values: all.iter().map(|(_, content)| value(content)).collect(),
        };
        Metric { properties: Some(set), ..Metric::default() }
    }

    #[test]
    fn unit_and_range_are_properties() {
        let told = [
            ("Engineering Unit", PropertyContent::Text("m³/h".into())),
            ("range_low", PropertyContent::Int((-5_i32) as u32)),
            ("rangeHigh", PropertyContent::Double(40.0)),
            ("Description", PropertyContent::Text("At the weir\n".into())),
            ("ReadOnly", PropertyContent::Boolean(false)),
        ];
        let expected = About {
            unit: "m³/h".into(),
            low: Some(-5.0),
            high: Some(40.0),
            description: "At the weir".into(),
            writable: Some(true),
        };
        assert_eq!(About::of(&properties(&told)), expected);
        assert_eq!(About::of(&properties(&[("Quality", PropertyContent::Int(192))])), About::default());
    }

    #[rstest]
    #[case(1, Value::F64(-2.0), Ok(MetricValue::Int(0xFFFF_FFFE)))]
    #[case(1, Value::F64(128.0), Err("The metric takes -128 to 127 (Int8)."))]
    #[case(3, Value::F64(1.5), Err("The metric takes a whole number."))]
    #[case(8, Value::U64(u64::MAX), Ok(MetricValue::Long(u64::MAX)))]
    #[case(8, Value::I64(-1), Err("The metric takes 0 to 18446744073709551615 (UInt64)."))]
    #[case(9, Value::I64(2), Ok(MetricValue::Float(2.0)))]
    #[case(10, Value::Text("x".into()), Err("The metric takes a number."))]
    #[case(10, Value::F64(f64::NAN), Err("The metric takes a number."))]
    #[case(11, Value::Bool(true), Ok(MetricValue::Boolean(true)))]
    #[case(11, Value::F64(2.0), Err("The metric is on or off."))]
    #[case(12, Value::F64(2.5), Ok(MetricValue::Text("2.5".into())))]
    #[case(13, Value::Text("1970-01-01T00:00:01Z".into()), Ok(MetricValue::Long(1000)))]
    #[case(16, Value::F64(1.0), Err("A metric of this type cannot be written."))]
    fn a_value_is_written_in_the_type_of_its_metric(
        #[case] datatype: u32,
        #[case] value: Value,
        #[case] expected: Result<MetricValue, &str>,
    ) {
        let metric = Metric::carrying("m", datatype, &value);
        assert_eq!(metric.map(|metric| metric.value.unwrap()), expected.map_err(str::to_owned));
    }

    #[test]
    fn parts_of_structures_and_tables_are_found() {
        let speed = Metric::carrying("Speed", 3, &Value::I64(-7)).unwrap();
        let template = Template { metrics: vec![speed], ..Template::default() };
        let pump = Metric { value: Some(MetricValue::Template(template)), ..Metric::default() };
        let steps = |all: &[&str]| all.iter().map(|&step| step.to_owned()).collect::<Vec<_>>();
        assert_eq!(pump.part(&steps(&["Speed"]), None), Ok(Value::I64(-7)));
        assert_eq!(pump.part(&steps(&["Load"]), None), Err(Reason::DoesNotFit));
        assert_eq!((pump.tells(&steps(&["Speed"])), pump.tells(&steps(&["Load"]))), (true, false));
        let set = DataSet { columns: vec!["at".into()], rows: vec![Row::default()], ..DataSet::default() };
        let table = Metric { value: Some(MetricValue::DataSet(set)), ..Metric::default() };
        assert_eq!(table.part(&steps(&["0", "at"]), None), Err(Reason::DoesNotFit), "the row is empty");
        let list = Metric { value: Some(MetricValue::Bytes(vec![1, 0, 2, 0])), datatype: Some(23), ..Metric::default() };
        assert_eq!(list.part(&steps(&["1"]), None), Ok(Value::I64(2)));
    }
}
