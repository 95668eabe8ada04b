//! A payload of Sparkplug B as it travels (Eclipse Sparkplug 3.0, 6.4.1: the schema of Protocol Buffers), and the values in it.

use havrel_core::{
    quality::{Quality, Reason},
    sample::Value,
    text::hex,
    time::{MILLI, Nanos, to_text},
};
use prost::Message;
use serde_json::{Value as Json, json};

/// Metrics that one payload may have.
const MOST_METRICS: usize = 100_000;
/// Elements of an array and cells of a data set that are shown.
const MOST_SHOWN: usize = 1000;

/// A payload.
#[derive(Clone, PartialEq, Message)]
pub struct Payload {
    /// When it was sent, in milliseconds since 1970.
    #[prost(uint64, optional, tag = "1")]
    pub timestamp: Option<u64>,
    #[prost(message, repeated, tag = "2")]
    pub metrics: Vec<Metric>,
    /// Counts the messages of an edge node, 0 to 255.
    #[prost(uint64, optional, tag = "3")]
    pub seq: Option<u64>,
    #[prost(string, optional, tag = "4")]
    pub uuid: Option<String>,
    #[prost(bytes = "vec", optional, tag = "5")]
    pub body: Option<Vec<u8>>,
}

/// A metric: one value of a device or an edge node.
#[derive(Clone, PartialEq, Message)]
pub struct Metric {
    #[prost(string, optional, tag = "1")]
    pub name: Option<String>,
    /// Stands for the name once a birth has told it.
    #[prost(uint64, optional, tag = "2")]
    pub alias: Option<u64>,
    /// Since 1970, in milliseconds.
    #[prost(uint64, optional, tag = "3")]
    pub timestamp: Option<u64>,
    /// See [`Datatype`].
    #[prost(uint32, optional, tag = "4")]
    pub datatype: Option<u32>,
    #[prost(bool, optional, tag = "5")]
    pub is_historical: Option<bool>,
    #[prost(bool, optional, tag = "6")]
    pub is_transient: Option<bool>,
    #[prost(bool, optional, tag = "7")]
    pub is_null: Option<bool>,
    #[prost(message, optional, tag = "8")]
    pub metadata: Option<MetaData>,
    #[prost(message, optional, tag = "9")]
    pub properties: Option<PropertySet>,
    #[prost(oneof = "MetricValue", tags = "10, 11, 12, 13, 14, 15, 16, 17, 18")]
    pub value: Option<MetricValue>,
}

/// What a metric carries.
#[derive(Clone, PartialEq, prost::Oneof)]
pub enum MetricValue {
    #[prost(uint32, tag = "10")]
    Int(u32),
    #[prost(uint64, tag = "11")]
    Long(u64),
    #[prost(float, tag = "12")]
    Float(f32),
    #[prost(double, tag = "13")]
    Double(f64),
    #[prost(bool, tag = "14")]
    Boolean(bool),
    #[prost(string, tag = "15")]
    Text(String),
    #[prost(bytes, tag = "16")]
    Bytes(Vec<u8>),
    #[prost(message, tag = "17")]
    DataSet(DataSet),
    #[prost(message, tag = "18")]
    Template(Template),
}

/// What else is told of the content of a metric; parts of files are left out.
#[derive(Clone, PartialEq, Message)]
pub struct MetaData {
    #[prost(string, optional, tag = "8")]
    pub description: Option<String>,
}

/// A small table.
#[derive(Clone, PartialEq, Message)]
pub struct DataSet {
    #[prost(uint64, optional, tag = "1")]
    pub width: Option<u64>,
    #[prost(string, repeated, tag = "2")]
    pub columns: Vec<String>,
    #[prost(uint32, repeated, packed = "false", tag = "3")]
    pub types: Vec<u32>,
    #[prost(message, repeated, tag = "4")]
    pub rows: Vec<Row>,
}

/// A row of a data set.
#[derive(Clone, PartialEq, Message)]
pub struct Row {
    #[prost(message, repeated, tag = "1")]
    pub elements: Vec<Cell>,
}

/// A cell of a data set.
#[derive(Clone, PartialEq, Message)]
pub struct Cell {
    #[prost(oneof = "CellValue", tags = "1, 2, 3, 4, 5, 6")]
    pub value: Option<CellValue>,
}

/// What a cell carries.
#[derive(Clone, PartialEq, prost::Oneof)]
pub enum CellValue {
    #[prost(uint32, tag = "1")]
    Int(u32),
    #[prost(uint64, tag = "2")]
    Long(u64),
    #[prost(float, tag = "3")]
    Float(f32),
    #[prost(double, tag = "4")]
    Double(f64),
    #[prost(bool, tag = "5")]
    Boolean(bool),
    #[prost(string, tag = "6")]
    Text(String),
}

/// A structure of metrics, or an instance of one.
#[derive(Clone, PartialEq, Message)]
pub struct Template {
    #[prost(string, optional, tag = "1")]
    pub version: Option<String>,
    #[prost(message, repeated, tag = "2")]
    pub metrics: Vec<Metric>,
    /// The structure that an instance follows.
    #[prost(string, optional, tag = "4")]
    pub reference: Option<String>,
    #[prost(bool, optional, tag = "5")]
    pub is_definition: Option<bool>,
}

/// What else is told of a metric: unit, range, quality.
#[derive(Clone, PartialEq, Message)]
pub struct PropertySet {
    #[prost(string, repeated, tag = "1")]
    pub keys: Vec<String>,
    #[prost(message, repeated, tag = "2")]
    pub values: Vec<PropertyValue>,
}

/// A property.
#[derive(Clone, PartialEq, Message)]
pub struct PropertyValue {
    #[prost(uint32, optional, tag = "1")]
    pub datatype: Option<u32>,
    #[prost(bool, optional, tag = "2")]
    pub is_null: Option<bool>,
    #[prost(oneof = "PropertyContent", tags = "3, 4, 5, 6, 7, 8")]
    pub value: Option<PropertyContent>,
}

/// What a property carries.
#[derive(Clone, PartialEq, prost::Oneof)]
pub enum PropertyContent {
    #[prost(uint32, tag = "3")]
    Int(u32),
    #[prost(uint64, tag = "4")]
    Long(u64),
    #[prost(float, tag = "5")]
    Float(f32),
    #[prost(double, tag = "6")]
    Double(f64),
    #[prost(bool, tag = "7")]
    Boolean(bool),
    #[prost(string, tag = "8")]
    Text(String),
}

/// The types of values by their numbers (Eclipse Sparkplug 3.0, 6.4.16), and how many bits of them count.
pub const INTEGERS: [(u32, &str, u32, bool); 8] = [
    (1, "Int8", 8, true),
    (2, "Int16", 16, true),
    (3, "Int32", 32, true),
    (4, "Int64", 64, true),
    (5, "UInt8", 8, false),
    (6, "UInt16", 16, false),
    (7, "UInt32", 32, false),
    (8, "UInt64", 64, false),
];
/// Some types by their numbers: whole numbers, floats, switches, texts, times in milliseconds, structures.
pub const INT32: u32 = 3;
pub const INT64: u32 = 4;
pub const UINT64: u32 = 8;
pub const DOUBLE: u32 = 10;
pub const BOOLEAN: u32 = 11;
pub const TEXT: u32 = 12;
pub const DATE_TIME: u32 = 13;
pub const TEMPLATE: u32 = 19;
/// The arrays, by the number of the first: elements as in the types of [`INTEGERS`], then floats, switches, texts and times.
const FIRST_ARRAY: u32 = 22;
/// The names of the types that are not whole numbers, by their numbers.
const OTHERS: [(u32, &str); 26] = [
    (9, "Float"),
    (10, "Double"),
    (11, "Boolean"),
    (12, "String"),
    (13, "DateTime"),
    (14, "Text"),
    (15, "UUID"),
    (16, "DataSet"),
    (17, "Bytes"),
    (18, "File"),
    (19, "Template"),
    (20, "PropertySet"),
    (21, "PropertySetList"),
    (22, "Int8Array"),
    (23, "Int16Array"),
    (24, "Int32Array"),
    (25, "Int64Array"),
    (26, "UInt8Array"),
    (27, "UInt16Array"),
    (28, "UInt32Array"),
    (29, "UInt64Array"),
    (30, "FloatArray"),
    (31, "DoubleArray"),
    (32, "BooleanArray"),
    (33, "StringArray"),
    (34, "DateTimeArray"),
];

/// The name of a type; empty where there is none of this number.
pub fn type_name(datatype: u32) -> &'static str {
    let integers = INTEGERS.iter().map(|(number, name, ..)| (*number, *name));
    integers.chain(OTHERS).find(|(number, _)| *number == datatype).map_or("", |(_, name)| name)
}

impl PropertySet {
    /// One with these properties: name, type and value of each.
    pub fn of(all: &[(&str, u32, PropertyContent)]) -> PropertySet {
        let value = |(_, datatype, content): &(&str, u32, PropertyContent)| PropertyValue {
            datatype: Some(*datatype),
            value: Some(content.clone()),
            ..PropertyValue::default()
        };
        PropertySet { keys: all.iter().map(|(key, ..)| (*key).to_owned()).collect(), values: all.iter().map(value).collect() }
    }
}

impl Payload {
    /// Reads one; `None` where the bytes are none.
    pub fn read(bytes: &[u8]) -> Option<Payload> {
        // The library bounds how deep a message may nest.
        Payload::decode(bytes).ok().filter(|payload| payload.metrics.len() <= MOST_METRICS)
    }

    /// When a metric had its value: its own time, or that of the payload.
    pub fn time_of(&self, metric: &Metric) -> Option<Nanos> {
        let told = metric.timestamp.or(self.timestamp)?;
        i64::try_from(told).ok()?.checked_mul(MILLI)
    }
}

/// A whole number of a type, from its two's complement, whatever was sent before it.
fn integer(raw: u64, bits: u32, signed: bool) -> Value {
    let unused = 64 - bits;
    if signed { Value::I64(((raw << unused) as i64) >> unused) } else { Value::U64((raw << unused) >> unused) }
}

/// A number of this type that was sent as a whole one.
fn whole(raw: u64, datatype: u32) -> Value {
    match INTEGERS.iter().find(|(number, ..)| *number == datatype) {
        Some(&(_, _, bits, signed)) => integer(raw, bits, signed),
        None if datatype == DATE_TIME => Value::Text(time(raw)),
        None if datatype == BOOLEAN => Value::Bool(raw != 0),
        None => Value::U64(raw),
    }
}

/// A time in milliseconds since 1970 as text.
fn time(raw: u64) -> String {
    i64::try_from(raw).ok().and_then(|ms| ms.checked_mul(MILLI)).map_or_else(|| raw.to_string(), to_text)
}

impl Metric {
    /// The type it says, or the one that was told by a birth.
    pub fn type_of(&self, born: Option<u32>) -> u32 {
        self.datatype.or(born).unwrap_or_default()
    }

    /// Its value; `born` is the type that its birth told.
    ///
    /// # Errors
    /// Why there is none.
    pub fn read(&self, born: Option<u32>) -> Result<Value, Reason> {
        if self.is_null == Some(true) {
            return Err(Reason::NoValue);
        }
        let datatype = self.type_of(born);
        Ok(match self.value.as_ref().ok_or(Reason::NoValue)? {
            MetricValue::Int(raw) => whole(u64::from(*raw), datatype),
            MetricValue::Long(raw) => whole(*raw, datatype),
            MetricValue::Float(value) => Value::F32(*value),
            MetricValue::Double(value) => Value::F64(*value),
            MetricValue::Boolean(on) => Value::Bool(*on),
            MetricValue::Text(text) => Value::Text(text.clone()),
            MetricValue::Bytes(bytes) => Value::Text(match datatype.checked_sub(FIRST_ARRAY) {
                Some(_) => array(bytes, datatype).map_or_else(|| hex(bytes, MOST_SHOWN), |all| all.to_string()),
                None => hex(bytes, MOST_SHOWN),
            }),
            MetricValue::DataSet(set) => Value::Text(set.show().to_string()),
            MetricValue::Template(template) => Value::Text(template.show(0).to_string()),
        })
    }

    /// How far its value may be trusted: what its property “Quality” says (Eclipse Sparkplug 3.0, 6.4.8).
    pub fn quality(&self) -> Quality {
        let set = self.properties.as_ref();
        let told = set.and_then(|set| {
            let at = set.keys.iter().position(|key| key == "Quality")?;
            match set.values.get(at)?.value.as_ref()? {
                PropertyContent::Int(code) => Some(u64::from(*code)),
                PropertyContent::Long(code) => Some(*code),
                _ => None,
            }
        });
        Quality::of(match told {
            None | Some(192) => Reason::Fine,
            Some(500) => Reason::LastUsable,
            Some(_) => Reason::SaidBad,
        })
    }

    /// What it is called: by its name, or by its alias where it has none.
    pub fn label(&self) -> String {
        match (&self.name, self.alias) {
            (Some(name), _) if !name.is_empty() => name.clone(),
            (_, Some(alias)) => format!("alias {alias}"),
            _ => "(no name)".to_owned(),
        }
    }
}

/// The elements of a packed array (Eclipse Sparkplug 3.0, 6.4.16); `None` where the bytes are none of the type.
fn array(bytes: &[u8], datatype: u32) -> Option<Json> {
    let elements = |size: usize, read: &dyn Fn(&[u8]) -> Json| {
        let whole = bytes.len().is_multiple_of(size);
        whole.then(|| bytes.chunks_exact(size).take(MOST_SHOWN).map(read).collect::<Json>())
    };
    let raw = |bytes: &[u8]| bytes.iter().rev().fold(0_u64, |all, byte| (all << 8) | u64::from(*byte));
    match datatype - FIRST_ARRAY {
        which @ 0..8 => {
            let (_, _, bits, signed) = INTEGERS[which as usize];
            elements(bits as usize / 8, &|one| integer(raw(one), bits, signed).to_json())
        }
        8 => elements(4, &|one| Value::F32(f32::from_bits(raw(one) as u32)).to_json()),
        9 => elements(8, &|one| Value::F64(f64::from_bits(raw(one))).to_json()),
        10 => {
            // How many there are, then one bit for each, the highest first.
            let (count, packed) = bytes.split_at_checked(4)?;
            let count = usize::try_from(raw(count)).ok()?;
            (count.div_ceil(8) <= packed.len())
                .then(|| (0..count.min(MOST_SHOWN)).map(|n| json!(packed[n / 8] & (0x80 >> (n % 8)) != 0)).collect())
        }
        11 => {
            let text = std::str::from_utf8(bytes.strip_suffix(&[0])?).ok()?;
            Some(text.split('\0').take(MOST_SHOWN).map(|one| json!(one)).collect())
        }
        12 => elements(8, &|one| json!(time(raw(one)))),
        _ => None,
    }
}

impl DataSet {
    /// As a list of rows, each an object by the names of the columns.
    pub fn show(&self) -> Json {
        let cell = |(at, cell): (usize, &Cell)| {
            let datatype = self.types.get(at).copied().unwrap_or_default();
            let value = match &cell.value {
                None => Json::Null,
                Some(CellValue::Int(raw)) => whole(u64::from(*raw), datatype).to_json(),
                Some(CellValue::Long(raw)) => whole(*raw, datatype).to_json(),
                Some(CellValue::Float(value)) => Value::F32(*value).to_json(),
                Some(CellValue::Double(value)) => Value::F64(*value).to_json(),
                Some(CellValue::Boolean(on)) => json!(on),
                Some(CellValue::Text(text)) => json!(text),
            };
            (self.columns.get(at).cloned().unwrap_or_else(|| format!("column {}", at + 1)), value)
        };
        let width = self.columns.len().clamp(1, MOST_SHOWN);
        let row = |row: &Row| Json::Object(row.elements.iter().take(width).enumerate().map(cell).collect());
        self.rows.iter().take(MOST_SHOWN / width).map(row).collect()
    }
}

impl Template {
    /// As an object by the names of its metrics.
    pub fn show(&self, depth: usize) -> Json {
        let member = |metric: &Metric| {
            let value = match &metric.value {
                Some(MetricValue::Template(inner)) if depth < 10 => inner.show(depth + 1),
                _ => metric.read(None).map_or(Json::Null, |value| value.to_json()),
            };
            (metric.label(), value)
        };
        Json::Object(self.metrics.iter().take(MOST_SHOWN).map(member).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn metric(datatype: u32, value: MetricValue) -> Metric {
        Metric { name: Some("m".into()), datatype: Some(datatype), value: Some(value), ..Metric::default() }
    }

    #[rstest]
    #[case(1, MetricValue::Int(0xFFFF_FFFE), Value::I64(-2))]
    #[case(1, MetricValue::Int(0xFE), Value::I64(-2))]
    #[case(2, MetricValue::Int(0x8000), Value::I64(-32768))]
    #[case(3, MetricValue::Int(u32::MAX), Value::I64(-1))]
    #[case(3, MetricValue::Long(u64::MAX), Value::I64(-1))]
    #[case(4, MetricValue::Long(u64::MAX), Value::I64(-1))]
    #[case(5, MetricValue::Int(0x1FF), Value::U64(255))]
    #[case(7, MetricValue::Int(u32::MAX), Value::U64(u64::from(u32::MAX)))]
    #[case(8, MetricValue::Long(u64::MAX), Value::U64(u64::MAX))]
    #[case(9, MetricValue::Float(1.5), Value::F32(1.5))]
    #[case(10, MetricValue::Double(-2.25), Value::F64(-2.25))]
    #[case(11, MetricValue::Boolean(true), Value::Bool(true))]
    #[case(12, MetricValue::Text("KX".into()), Value::Text("KX".into()))]
    #[case(13, MetricValue::Long(1_795_924_307_250), Value::Text("2026-11-29T03:51:47.25Z".into()))]
    #[case(17, MetricValue::Bytes(vec![0xAB, 1]), Value::Text("ab01".into()))]
    #[case(22, MetricValue::Bytes(vec![0xFF, 2]), Value::Text("[-1,2]".into()))]
    #[case(27, MetricValue::Bytes(vec![1, 1, 2, 0]), Value::Text("[257,2]".into()))]
    #[case(30, MetricValue::Bytes(vec![0, 0, 0xC0, 0x3F]), Value::Text("[1.5]".into()))]
    #[case(32, MetricValue::Bytes(vec![3, 0, 0, 0, 0b1010_0000]), Value::Text("[true,false,true]".into()))]
    #[case(33, MetricValue::Bytes(b"LV\0HV\0".to_vec()), Value::Text("[\"LV\",\"HV\"]".into()))]
    #[case(28, MetricValue::Bytes(vec![1, 2, 3]), Value::Text("010203".into()))]
    fn values_by_their_types(#[case] datatype: u32, #[case] value: MetricValue, #[case] expected: Value) {
        assert_eq!(metric(datatype, value).read(None), Ok(expected));
    }

    #[test]
    fn a_payload_is_read_from_its_bytes() {
        // timestamp 1,795,924,307,250; metric “pH” (alias 3, Double 7.25); seq 255: written by hand after the schema.
        let mut bytes = vec![0x08, 0xB2, 0xDA, 0xB8, 0xAB, 0xA2, 0x34, 0x12, 0x11];
        bytes.extend([0x0A, 0x02, b'p', b'H', 0x10, 0x03, 0x20, 0x0A, 0x69]);
        bytes.extend(7.25_f64.to_le_bytes());
        bytes.extend([0x18, 0xFF, 0x01]);
        let payload = Payload::read(&bytes).unwrap();
        let [metric] = &payload.metrics[..] else { panic!("{payload:?}") };
        assert_eq!((metric.label().as_str(), metric.alias, payload.seq), ("pH", Some(3), Some(255)));
        assert_eq!((metric.read(None), payload.time_of(metric)), (Ok(Value::F64(7.25)), Some(1_795_924_307_250 * MILLI)));
        assert_eq!(Payload::read(&bytes[..12]), None);
        assert_eq!(Payload::read(b"{\"a\": 1}"), None);
    }

    #[test]
    fn a_payload_is_read_as_another_program_writes_it() {
        // By the npm package sparkplug-payload 1.0.3: a Double, a Boolean, and an Int8 of -2.
        let text = "08b2dab8aba234121c0a08496e6c65742f704818b2dab8aba234200a690000000000001d40120a0a0450756d70200b7001\
                    120f0a05436f756e74200150feffffff0f1800";
        let digits = (0..text.len()).step_by(2).map(|at| u8::from_str_radix(&text[at..at + 2], 16).unwrap());
        let payload = Payload::read(&digits.collect::<Vec<_>>()).unwrap();
        let told: Vec<_> = payload.metrics.iter().map(|m| (m.label(), m.read(None).unwrap())).collect();
        let expected = [("Inlet/pH", Value::F64(7.25)), ("Pump", Value::Bool(true)), ("Count", Value::I64(-2))];
        assert_eq!(told, expected.map(|(name, value)| (name.to_owned(), value)));
        assert_eq!(payload.seq, Some(0));
    }

    #[rstest]
    #[case(None, Quality::GOOD)]
    #[case(Some(192), Quality::GOOD)]
    #[case(Some(500), Quality::of(Reason::LastUsable))]
    #[case(Some(0), Quality::of(Reason::SaidBad))]
    fn the_quality_is_a_property(#[case] code: Option<u32>, #[case] expected: Quality) {
        let value = |code| PropertyValue { value: Some(PropertyContent::Int(code)), ..PropertyValue::default() };
        let set = code.map(|code| PropertySet { keys: vec!["x".into(), "Quality".into()], values: vec![value(7), value(code)] });
        assert_eq!(Metric { properties: set, ..Metric::default() }.quality(), expected);
    }

    #[test]
    fn what_is_no_value_says_so_and_what_has_parts_is_shown() {
        assert_eq!(Metric { is_null: Some(true), ..metric(3, MetricValue::Int(1)) }.read(None), Err(Reason::NoValue));
        assert_eq!(Metric::default().read(Some(3)), Err(Reason::NoValue));
        let told = Metric { datatype: None, ..metric(0, MetricValue::Int(0xFF)) };
        assert_eq!(told.read(Some(1)), Ok(Value::I64(-1)), "the birth told the type");
        let cell = |value| Cell { value: Some(value) };
        let set = DataSet {
            columns: vec!["at".into(), "grade".into()],
            types: vec![1, 12],
            rows: vec![Row { elements: vec![cell(CellValue::Int(0xFF)), cell(CellValue::Text("LV".into()))] }],
            ..DataSet::default()
        };
        let shown = metric(16, MetricValue::DataSet(set)).read(None);
        assert_eq!(shown, Ok(Value::Text("[{\"at\":-1,\"grade\":\"LV\"}]".into())));
        let template = Template { metrics: vec![metric(3, MetricValue::Int(4))], ..Template::default() };
        assert_eq!(metric(19, MetricValue::Template(template)).read(None), Ok(Value::Text("{\"m\":4}".into())));
        assert_eq!((type_name(3), type_name(34), type_name(99)), ("Int32", "DateTimeArray", ""));
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..400), datatype in 0_u32..40) {
            if let Some(payload) = Payload::read(&bytes) {
                for metric in &payload.metrics {
                    let _ = (metric.read(Some(datatype)), metric.quality(), metric.label(), payload.time_of(metric));
                }
            }
            let _ = metric(datatype, MetricValue::Bytes(bytes)).read(None);
        }
    }
}
