//! Values of OPC UA (Part 6, 5.1 and 5.2) as values of tags, and back.

use super::status;
use crate::payload::MOST_TEXT;
use havrel_core::text::hex;
use havrel_core::{
    quality::Reason,
    sample::Value,
    time::{Nanos, to_text},
};
use opcua::types::{Array, DateTime, NumericRange, UAString, Variant, VariantScalarTypeId};

/// Most elements of an array that are shown in one value.
const MOST_SHOWN: usize = 100;

/// From the standard's epoch, 1601-01-01, to 1970 in steps of 100 ns.
const EPOCH: i64 = 116_444_736_000_000_000;

/// A time in nanoseconds; `None` for none, and for those outside the years that nanoseconds can hold.
pub fn nanos(time: DateTime, picoseconds: Option<u16>) -> Option<Nanos> {
    if time.is_null() {
        return None;
    }
    // The parts below a step count tens of picoseconds, 0 to 9,999.
    let below = i64::from(picoseconds.unwrap_or(0).min(9999)) / 100;
    time.ticks().checked_sub(EPOCH)?.checked_mul(100)?.checked_add(below)
}

/// A time as the wire counts it: steps of 100 ns since 1601.
pub fn ticks(at: Nanos) -> i64 {
    at / 100 + EPOCH
}

/// A value of a tag.
///
/// # Errors
/// Why a tag cannot hold it.
pub fn value(variant: &Variant) -> Result<Value, Reason> {
    let text = |text: String| Ok(Value::Text(crate::payload::cut(text)));
    let whole = |text: &UAString| Ok(Value::Text(crate::payload::cut(text.as_ref().to_owned())));
    match variant {
        Variant::Boolean(v) => Ok(Value::Bool(*v)),
        Variant::SByte(v) => Ok(Value::I64((*v).into())),
        Variant::Byte(v) => Ok(Value::U64((*v).into())),
        Variant::Int16(v) => Ok(Value::I64((*v).into())),
        Variant::UInt16(v) => Ok(Value::U64((*v).into())),
        Variant::Int32(v) => Ok(Value::I64((*v).into())),
        Variant::UInt32(v) => Ok(Value::U64((*v).into())),
        Variant::Int64(v) => Ok(Value::I64(*v)),
        Variant::UInt64(v) => Ok(Value::U64(*v)),
        Variant::Float(v) if v.is_finite() => Ok(Value::F32(*v)),
        Variant::Double(v) if v.is_finite() => Ok(Value::F64(*v)),
        Variant::Float(_) | Variant::Double(_) => Err(Reason::NotANumber),
        Variant::String(v) => whole(v),
        Variant::LocalizedText(v) => whole(&v.text),
        Variant::QualifiedName(v) => whole(&v.name),
        Variant::XmlElement(v) => text(v.to_string()),
        Variant::DateTime(v) => nanos(**v, None).map_or_else(|| text(v.to_rfc3339()), |at| text(to_text(at))),
        Variant::Guid(v) => text(v.to_string()),
        Variant::StatusCode(v) => text(status::name(*v)),
        Variant::NodeId(v) => text(v.to_string()),
        Variant::ExpandedNodeId(v) => text(v.to_string()),
        Variant::ByteString(v) => {
            let bytes = v.value.as_deref().unwrap_or_default();
            text(hex(bytes, MOST_TEXT / 2))
        }
        Variant::Variant(v) => value(v),
        Variant::Array(array) => list(array),
        Variant::Empty | Variant::ExtensionObject(_) | Variant::DataValue(_) | Variant::DiagnosticInfo(_) => {
            Err(Reason::NoSuchType)
        }
    }
}

/// An array of one element, as a range of one gives it, is that element; others become text with commas between.
fn list(array: &Array) -> Result<Value, Reason> {
    if let [one] = array.values.as_slice() {
        return value(one);
    }
    let mut shown = Vec::new();
    for element in array.values.iter().take(MOST_SHOWN) {
        shown.push(match value(element) {
            Ok(Value::Text(text)) => serde_json::Value::String(text).to_string(),
            Ok(other) => other.to_json().to_string(),
            Err(Reason::NotANumber) => "null".into(),
            Err(reason) => return Err(reason),
        });
    }
    if array.values.len() > MOST_SHOWN {
        shown.push(format!("… {} in all", array.values.len()));
    }
    Ok(Value::Text(crate::payload::cut(format!("[{}]", shown.join(", ")))))
}

/// A value as a node of this type holds it.
///
/// # Errors
/// A sentence, where it does not fit.
pub fn variant(value: &Value, kind: VariantScalarTypeId) -> Result<Variant, String> {
    use VariantScalarTypeId as Id;
    fn whole<T: TryFrom<i128>>(value: &Value) -> Result<T, String> {
        let exact = match value {
            Value::Bool(v) => i128::from(*v),
            Value::I64(v) => (*v).into(),
            Value::U64(v) => (*v).into(),
            Value::F32(v) if v.fract() == 0.0 && v.abs() < 1e19 => *v as i128,
            Value::F64(v) if v.fract() == 0.0 && v.abs() < 1e19 => *v as i128,
            Value::Text(_) => return Err("The node holds whole numbers.".into()),
            _ => return Err("The node holds whole numbers; enter one without fraction.".into()),
        };
        T::try_from(exact).map_err(|_| "The number does not fit into the type of the node.".into())
    }
    let number = || value.number().ok_or_else(|| "The node holds numbers.".to_owned());
    Ok(match kind {
        Id::Boolean => match value.number() {
            Some(0.0) => Variant::Boolean(false),
            Some(1.0) => Variant::Boolean(true),
            _ => return Err("The node is on or off.".into()),
        },
        Id::SByte => Variant::SByte(whole(value)?),
        Id::Byte => Variant::Byte(whole(value)?),
        Id::Int16 => Variant::Int16(whole(value)?),
        Id::UInt16 => Variant::UInt16(whole(value)?),
        Id::Int32 => Variant::Int32(whole(value)?),
        Id::UInt32 => Variant::UInt32(whole(value)?),
        Id::Int64 => Variant::Int64(whole(value)?),
        Id::UInt64 => Variant::UInt64(whole(value)?),
        Id::Float => match number()? as f32 {
            fits if fits.is_finite() => Variant::Float(fits),
            _ => return Err("The number does not fit into the type of the node.".into()),
        },
        Id::Double => Variant::Double(number()?),
        Id::String => match value {
            Value::Text(text) => Variant::String(text.as_str().into()),
            _ => return Err("The node holds text.".into()),
        },
        Id::LocalizedText => match value {
            Value::Text(text) => Variant::LocalizedText(Box::new(text.as_str().into())),
            _ => return Err("The node holds text.".into()),
        },
        _ => return Err("Havrel cannot write values of this type.".into()),
    })
}

/// Which elements of an array, written `3`, `2:5` or `1,0` (Part 4, 7.27); empty: all.
///
/// # Errors
/// Anything else.
pub fn range(text: &str) -> Result<NumericRange, &'static str> {
    let text = text.trim();
    let plain = text.len() <= 100 && text.bytes().all(|b| b.is_ascii_digit() || b == b':' || b == b',');
    match text {
        "" => Ok(NumericRange::None),
        _ if plain => text.parse().map_err(|_| "Write elements as 3, as 2:5, or as 1,0 in an array of two dimensions."),
        _ => Err("Write elements as 3, as 2:5, or as 1,0 in an array of two dimensions."),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use opcua::types::StatusCode;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(Variant::Byte(7), Ok(Value::U64(7)))]
    #[case(Variant::Int64(i64::MIN), Ok(Value::I64(i64::MIN)))]
    #[case(Variant::UInt64(u64::MAX), Ok(Value::U64(u64::MAX)))]
    #[case(Variant::Float(21.5), Ok(Value::F32(21.5)))]
    #[case(Variant::Float(f32::NAN), Err(Reason::NotANumber))]
    #[case(Variant::Double(f64::INFINITY), Err(Reason::NotANumber))]
    #[case(Variant::from("Sieve A"), Ok(Value::Text("Sieve A".into())))]
    #[case(Variant::from(vec![1i32, 2, 3]), Ok(Value::Text("[1, 2, 3]".into())))]
    #[case(Variant::from(vec![4i32]), Ok(Value::I64(4)))]
    #[case(Variant::from(vec![0.5f64, f64::NAN]), Ok(Value::Text("[0.5, null]".into())))]
    #[case(Variant::StatusCode(StatusCode::BadDeviceFailure), Ok(Value::Text("BadDeviceFailure".into())))]
    #[case(Variant::Empty, Err(Reason::NoSuchType))]
    fn variants_become_values(#[case] given: Variant, #[case] expected: Result<Value, Reason>) {
        assert_eq!(value(&given), expected);
    }

    #[rstest]
    #[case(Value::F64(5.0), VariantScalarTypeId::Int16, Ok(Variant::Int16(5)))]
    #[case(Value::F64(5.5), VariantScalarTypeId::Int16, Err("The node holds whole numbers; enter one without fraction."))]
    #[case(Value::F64(40000.0), VariantScalarTypeId::Int16, Err("The number does not fit into the type of the node."))]
    #[case(Value::U64(u64::MAX), VariantScalarTypeId::UInt64, Ok(Variant::UInt64(u64::MAX)))]
    #[case(Value::F64(1e300), VariantScalarTypeId::Float, Err("The number does not fit into the type of the node."))]
    #[case(Value::F64(1.0), VariantScalarTypeId::Boolean, Ok(Variant::Boolean(true)))]
    #[case(Value::F64(2.0), VariantScalarTypeId::Boolean, Err("The node is on or off."))]
    #[case(Value::Text("x".into()), VariantScalarTypeId::Double, Err("The node holds numbers."))]
    #[case(Value::Text("x".into()), VariantScalarTypeId::String, Ok(Variant::from("x")))]
    fn values_become_variants_or_are_refused(
        #[case] value: Value,
        #[case] kind: VariantScalarTypeId,
        #[case] expected: Result<Variant, &str>,
    ) {
        assert_eq!(variant(&value, kind), expected.map_err(ToOwned::to_owned));
    }

    #[rstest]
    #[case("", true)]
    #[case("3", true)]
    #[case("2:5", true)]
    #[case("1,0", true)]
    #[case("5:2", false)]
    #[case("a", false)]
    #[case("-1", false)]
    #[case("1:", false)]
    fn elements_are_written_as_the_standard_does(#[case] text: &str, #[case] fine: bool) {
        assert_eq!(range(text).is_ok(), fine);
    }

    proptest! {
        #[test]
        fn every_number_comes_back_as_it_was(v in any::<i64>()) {
            let back = variant(&value(&Variant::Int64(v)).unwrap(), VariantScalarTypeId::Int64);
            prop_assert_eq!(back, Ok(Variant::Int64(v)));
        }

        #[test]
        fn every_float_comes_back_as_it_was(bits in any::<u32>()) {
            let v = f32::from_bits(bits);
            match value(&Variant::Float(v)) {
                Ok(held) => prop_assert_eq!(variant(&held, VariantScalarTypeId::Float), Ok(Variant::Float(v))),
                Err(reason) => prop_assert_eq!((reason, v.is_finite()), (Reason::NotANumber, false)),
            }
        }

        #[test]
        fn no_time_makes_it_panic(ticks in any::<i64>(), picoseconds in any::<Option<u16>>()) {
            let _ = nanos(DateTime::from(ticks), picoseconds);
        }

        #[test]
        fn no_range_makes_it_panic(text in "[0-9:,a ]{0,12}") {
            let _ = range(&text);
        }
    }
}
