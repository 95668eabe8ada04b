//! Registers to values and back: 16- and 32-bit integers, 32-bit floats, text and bits, in every order of bytes.

use havrel_core::{quality::Reason, sample::Value};
use serde::{Deserialize, Serialize};

/// What a point's registers hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Type {
    Bool,
    U16,
    I16,
    U32,
    I32,
    F32,
    Text,
}

/// How the four bytes A (highest) to D of a 32-bit value stand in two registers. Text and 16-bit values follow the order
/// within a register only.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum Order {
    #[default]
    #[serde(rename = "ABCD")]
    Abcd,
    #[serde(rename = "CDAB")]
    Cdab,
    #[serde(rename = "BADC")]
    Badc,
    #[serde(rename = "DCBA")]
    Dcba,
}

impl Order {
    fn swaps_bytes(self) -> bool {
        matches!(self, Order::Badc | Order::Dcba)
    }

    fn swaps_words(self) -> bool {
        matches!(self, Order::Cdab | Order::Dcba)
    }
}

impl Type {
    /// Registers (or bits) it takes; text takes `length` registers.
    pub fn width(self, length: u16) -> u16 {
        match self {
            Type::Bool | Type::U16 | Type::I16 => 1,
            Type::U32 | Type::I32 | Type::F32 => 2,
            Type::Text => length,
        }
    }

    /// The name a point gives it.
    pub fn name(self) -> &'static str {
        match self {
            Type::Bool => "bool",
            Type::U16 => "u16",
            Type::I16 => "i16",
            Type::U32 => "u32",
            Type::I32 => "i32",
            Type::F32 => "f32",
            Type::Text => "text",
        }
    }
}

/// Makes a value of the registers of one point.
///
/// # Errors
/// Too few registers, or a float that is not a finite number.
pub fn decode(kind: Type, order: Order, words: &[u16]) -> Result<Value, Reason> {
    let word = |i: usize| -> Result<u16, Reason> {
        let word = *words.get(i).ok_or(Reason::WrongAnswer)?;
        Ok(if order.swaps_bytes() { word.swap_bytes() } else { word })
    };
    let double = || -> Result<u32, Reason> {
        let (high, low) = if order.swaps_words() { (word(1)?, word(0)?) } else { (word(0)?, word(1)?) };
        Ok(u32::from(high) << 16 | u32::from(low))
    };
    Ok(match kind {
        Type::Bool => Value::Bool(word(0)? != 0),
        Type::U16 => Value::U64(u64::from(word(0)?)),
        Type::I16 => Value::I64(i64::from(word(0)? as i16)),
        Type::U32 => Value::U64(u64::from(double()?)),
        Type::I32 => Value::I64(i64::from(double()? as i32)),
        Type::F32 => Value::F32(Some(f32::from_bits(double()?)).filter(|v| v.is_finite()).ok_or(Reason::NotANumber)?),
        Type::Text => {
            let bytes = (0..words.len()).map(word).collect::<Result<Vec<_>, _>>()?;
            let bytes: Vec<u8> = bytes.into_iter().flat_map(u16::to_be_bytes).take_while(|&b| b != 0).collect();
            let text: String = String::from_utf8_lossy(&bytes).chars().filter(|c| !c.is_control()).collect();
            Value::Text(text.trim_end().to_owned())
        }
    })
}

/// The registers that hold a raw value.
///
/// # Errors
/// A value the type cannot hold, with a sentence.
pub fn encode(kind: Type, order: Order, length: u16, value: &Value) -> Result<Vec<u16>, String> {
    let whole = |low: f64, high: f64| -> Result<f64, String> {
        let number = value.number().ok_or("A number is needed here.")?.round();
        if (low..=high).contains(&number) { Ok(number) } else { Err(format!("The device can hold {low} to {high} here.")) }
    };
    let double = |bits: u32| {
        let (high, low) = ((bits >> 16) as u16, bits as u16);
        if order.swaps_words() { vec![low, high] } else { vec![high, low] }
    };
    let mut words = match kind {
        Type::Bool => vec![u16::from(value.number().ok_or("On or off is needed here.")? != 0.0)],
        Type::U16 => vec![whole(0.0, 65_535.0)? as u16],
        Type::I16 => vec![whole(-32_768.0, 32_767.0)? as i16 as u16],
        Type::U32 => double(whole(0.0, 4_294_967_295.0)? as u32),
        Type::I32 => double(whole(-2_147_483_648.0, 2_147_483_647.0)? as i32 as u32),
        Type::F32 => {
            let number = value.number().filter(|v| (*v as f32).is_finite()).ok_or("A number is needed here.")?;
            double((number as f32).to_bits())
        }
        Type::Text => {
            let Value::Text(text) = value else { return Err("Text is needed here.".into()) };
            let room = usize::from(length) * 2;
            if text.len() > room {
                return Err(format!("There is room for {room} bytes here."));
            }
            let mut bytes = text.clone().into_bytes();
            bytes.resize(room, 0);
            bytes.chunks(2).map(|b| u16::from_be_bytes([b[0], b[1]])).collect()
        }
    };
    if order.swaps_bytes() {
        words.iter_mut().for_each(|w| *w = w.swap_bytes());
    }
    Ok(words)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(Type::F32, Order::Abcd, &[0x4141, 0x999a], Value::F32(12.1))]
    #[case(Type::F32, Order::Cdab, &[0x999a, 0x4141], Value::F32(12.1))]
    #[case(Type::F32, Order::Badc, &[0x4141, 0x9a99], Value::F32(12.1))]
    #[case(Type::F32, Order::Dcba, &[0x9a99, 0x4141], Value::F32(12.1))]
    #[case(Type::U32, Order::Abcd, &[0x0001, 0x0002], Value::U64(65_538))]
    #[case(Type::U32, Order::Cdab, &[0x0002, 0x0001], Value::U64(65_538))]
    #[case(Type::I32, Order::Abcd, &[0xffff, 0xfffe], Value::I64(-2))]
    #[case(Type::I16, Order::Abcd, &[0xfffe], Value::I64(-2))]
    #[case(Type::U16, Order::Badc, &[0x0100], Value::U64(1))]
    #[case(Type::Text, Order::Abcd, &[0x4b58, 0x2d32, 0x0041], Value::Text("KX-2".into()))]
    #[case(Type::Text, Order::Badc, &[0x584b], Value::Text("KX".into()))]
    #[case(Type::Bool, Order::Abcd, &[1], Value::Bool(true))]
    fn decodes(#[case] kind: Type, #[case] order: Order, #[case] words: &[u16], #[case] expected: Value) {
        assert_eq!(decode(kind, order, words), Ok(expected));
    }

    #[rstest]
    #[case(Type::F32, &[0x7fc0, 0], Reason::NotANumber)]
    #[case(Type::F32, &[0x7f80, 0], Reason::NotANumber)]
    #[case(Type::U32, &[1], Reason::WrongAnswer)]
    #[case(Type::U16, &[], Reason::WrongAnswer)]
    fn refuses(#[case] kind: Type, #[case] words: &[u16], #[case] reason: Reason) {
        assert_eq!(decode(kind, Order::Abcd, words), Err(reason));
    }

    #[rstest]
    #[case(Type::U16, Value::F64(65_536.0))]
    #[case(Type::U16, Value::F64(-1.0))]
    #[case(Type::I16, Value::F64(40_000.0))]
    #[case(Type::F32, Value::F64(1e300))]
    #[case(Type::F32, Value::Text("much".into()))]
    #[case(Type::Text, Value::Text("too long".into()))]
    fn refuses_to_encode(#[case] kind: Type, #[case] value: Value) {
        assert!(encode(kind, Order::Abcd, 2, &value).is_err());
    }

    fn any_order() -> impl Strategy<Value = Order> {
        prop_oneof![Just(Order::Abcd), Just(Order::Cdab), Just(Order::Badc), Just(Order::Dcba)]
    }

    proptest! {
        #[test]
        fn what_is_encoded_decodes(order in any_order(), bits in any::<u32>(), text in "[ -~]{0,8}") {
            let float = f32::from_bits(bits);
            let cases = [
                (Type::U16, Value::U64(u64::from(bits & 0xffff))), (Type::I16, Value::I64(i64::from(bits as i16))),
                (Type::U32, Value::U64(u64::from(bits))), (Type::I32, Value::I64(i64::from(bits as i32))),
                (Type::Bool, Value::Bool(bits & 1 == 1)), (Type::Text, Value::Text(text.trim_end().to_owned())),
                (Type::F32, Value::F32(if float.is_finite() { float } else { 1.5 })),
            ];
            for (kind, value) in cases {
                // A bit is on whenever its register is not zero, whatever the order.
                let words = encode(kind, order, 4, &value).unwrap();
                prop_assert_eq!(decode(kind, order, &words), Ok(value));
            }
        }
    }
}
