//! Registers to values and back: integers and floats of 16 to 64 bits, packed decimals, text, bits and ranges of bits, in
//! every order of bytes and words.

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
    U64,
    I64,
    F32,
    F64,
    /// Packed decimal: four digits a register.
    Bcd,
    Text,
}

/// How the bytes A (highest) to D of a value stand in its registers; in 64-bit values the registers are turned round or
/// kept in the same way. The orders of eight letters say how the bytes A to H of a 64-bit value stand whose halves and
/// registers are not turned alike; shorter values follow them within a half. Text and 16-bit values follow the order within
/// a register only.
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
    #[serde(rename = "EFGHABCD")]
    Efghabcd,
    #[serde(rename = "CDABGHEF")]
    Cdabghef,
    #[serde(rename = "FEHGBADC")]
    Fehgbadc,
    #[serde(rename = "DCBAHGFE")]
    Dcbahgfe,
}

impl Order {
    /// All of them, the usual first; the last four differ from the others only in values of 64 bits.
    pub const ALL: [Order; 8] =
        [Order::Abcd, Order::Cdab, Order::Badc, Order::Dcba, Order::Efghabcd, Order::Cdabghef, Order::Fehgbadc, Order::Dcbahgfe];

    /// Those that values of up to 32 bits can stand in.
    pub const SHORT: &[Order] = Order::ALL.split_at(4).0;

    fn swaps_bytes(self) -> bool {
        matches!(self, Order::Badc | Order::Dcba | Order::Fehgbadc | Order::Dcbahgfe)
    }

    /// Whether the registers of 32 bits are turned.
    fn swaps_words(self) -> bool {
        matches!(self, Order::Cdab | Order::Dcba | Order::Cdabghef | Order::Dcbahgfe)
    }

    /// Whether the halves of 64 bits are turned.
    fn swaps_halves(self) -> bool {
        matches!(self, Order::Cdab | Order::Dcba | Order::Efghabcd | Order::Fehgbadc)
    }

    /// Which register, counted from the highest, stands at a place among so many.
    fn register(self, place: usize, count: usize) -> usize {
        match count {
            4 => place ^ usize::from(self.swaps_words()) ^ (usize::from(self.swaps_halves()) << 1),
            _ if self.swaps_words() => count - 1 - place,
            _ => place,
        }
    }

    /// As it is written.
    pub fn name(self) -> &'static str {
        match self {
            Order::Abcd => "ABCD",
            Order::Cdab => "CDAB",
            Order::Badc => "BADC",
            Order::Dcba => "DCBA",
            Order::Efghabcd => "EFGHABCD",
            Order::Cdabghef => "CDABGHEF",
            Order::Fehgbadc => "FEHGBADC",
            Order::Dcbahgfe => "DCBAHGFE",
        }
    }
}

impl Type {
    /// The name a point gives it.
    pub fn name(self) -> &'static str {
        match self {
            Type::Bool => "bool",
            Type::U16 => "u16",
            Type::I16 => "i16",
            Type::U32 => "u32",
            Type::I32 => "i32",
            Type::U64 => "u64",
            Type::I64 => "i64",
            Type::F32 => "f32",
            Type::F64 => "f64",
            Type::Bcd => "bcd",
            Type::Text => "text",
        }
    }

    /// Whether it holds whole numbers only.
    pub fn is_whole(self) -> bool {
        !matches!(self, Type::Bool | Type::F32 | Type::F64 | Type::Text)
    }

    /// Whether its bytes can stand in more than one order of registers.
    pub fn spans_registers(self) -> bool {
        matches!(self, Type::U32 | Type::I32 | Type::U64 | Type::I64 | Type::F32 | Type::F64 | Type::Bcd)
    }
}

/// How the registers of a point make its value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Shape {
    pub kind: Type,
    pub order: Order,
    /// Registers of text (any number) and of packed decimals (1 to 4).
    pub length: u16,
    /// First bit, 0 the lowest, and how many: part of an unsigned integer, or one bit of a register as a switch.
    pub bits: Option<(u8, u8)>,
}

/// What a write sends.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Encoded {
    Words(Vec<u16>),
    /// Bits to change (1 = this one) and what they become, for each register.
    Masked(Vec<(u16, u16)>),
}

impl Shape {
    /// The usual shape of a type.
    pub const fn of(kind: Type, order: Order) -> Shape {
        Shape { kind, order, length: 1, bits: None }
    }

    /// Registers (or coils) it takes.
    pub fn width(&self) -> u16 {
        match self.kind {
            Type::Bool | Type::U16 | Type::I16 => 1,
            Type::U32 | Type::I32 | Type::F32 => 2,
            Type::U64 | Type::I64 | Type::F64 => 4,
            Type::Bcd | Type::Text => self.length,
        }
    }

    /// The registers as one number of up to 64 bits, the highest first.
    fn gather(&self, words: &[u16]) -> Result<u64, Reason> {
        let own = words.get(..usize::from(self.width())).ok_or(Reason::WrongAnswer)?;
        // To turn registers and to turn them back is the same.
        let ordered = (0..own.len()).map(|i| own[self.order.register(i, own.len())]);
        let turned = ordered.map(|word| if self.order.swaps_bytes() { word.swap_bytes() } else { word });
        Ok(turned.fold(0, |sum, word| sum << 16 | u64::from(word)))
    }

    fn scatter(&self, number: u64) -> Vec<u16> {
        let width = usize::from(self.width());
        let word = |i: usize| (number >> (16 * (width - 1 - i))) as u16;
        let ordered = (0..width).map(|place| word(self.order.register(place, width)));
        ordered.map(|word| if self.order.swaps_bytes() { word.swap_bytes() } else { word }).collect()
    }

    /// Makes a value of the registers of one point.
    ///
    /// # Errors
    /// Too few registers, a float that is not a finite number, or digits that are none.
    pub fn decode(&self, words: &[u16]) -> Result<Value, Reason> {
        if self.kind == Type::Text {
            let own = words.get(..usize::from(self.length)).ok_or(Reason::WrongAnswer)?;
            let turned = own.iter().map(|w| if self.order.swaps_bytes() { w.swap_bytes() } else { *w });
            let bytes: Vec<u8> = turned.flat_map(u16::to_be_bytes).take_while(|&b| b != 0).collect();
            let text: String = String::from_utf8_lossy(&bytes).chars().filter(|c| !c.is_control()).collect();
            return Ok(Value::Text(text.trim_end().to_owned()));
        }
        let mut raw = self.gather(words)?;
        if let Some((first, count)) = self.bits {
            raw = raw.checked_shr(first.into()).unwrap_or(0) & ones(count);
        }
        Ok(match self.kind {
            Type::Bool => Value::Bool(raw != 0),
            Type::U16 | Type::U32 | Type::U64 => Value::U64(raw),
            Type::I16 => Value::I64(i64::from(raw as i16)),
            Type::I32 => Value::I64(i64::from(raw as i32)),
            Type::I64 => Value::I64(raw as i64),
            Type::F32 => Value::F32(Some(f32::from_bits(raw as u32)).filter(|v| v.is_finite()).ok_or(Reason::NotANumber)?),
            Type::F64 => Value::F64(Some(f64::from_bits(raw)).filter(|v| v.is_finite()).ok_or(Reason::NotANumber)?),
            Type::Bcd => {
                let digit = |i: u16| Some(raw >> (4 * i) & 0xf).filter(|d| *d < 10).ok_or(Reason::NotANumber);
                let mut digits = (0..4 * self.length).rev().map(digit);
                Value::U64(digits.try_fold(0, |sum: u64, d| Ok(sum * 10 + d?))?)
            }
            Type::Text => return Err(Reason::WrongAnswer),
        })
    }

    /// What to send so that the device holds a raw value.
    ///
    /// # Errors
    /// A value the type cannot hold, with a sentence.
    pub fn encode(&self, value: &Value) -> Result<Encoded, String> {
        if self.kind == Type::Text {
            let Value::Text(text) = value else { return Err("Enter text.".into()) };
            let room = usize::from(self.length) * 2;
            if text.len() > room {
                return Err(format!("At most {room} bytes fit here."));
            }
            let mut bytes = text.clone().into_bytes();
            bytes.resize(room, 0);
            let turn = |b: &[u8]| u16::from_be_bytes(if self.order.swaps_bytes() { [b[1], b[0]] } else { [b[0], b[1]] });
            return Ok(Encoded::Words(bytes.chunks(2).map(turn).collect()));
        }
        if let Some((first, count)) = self.bits {
            let most = ones(count);
            let part = if self.kind == Type::Bool { self.switch(value)? } else { whole(value, 0, i128::from(most))? as u64 };
            let masks = self.scatter(most << first);
            return Ok(Encoded::Masked(masks.into_iter().zip(self.scatter(part << first)).collect()));
        }
        let raw = match self.kind {
            Type::Bool => {
                let bit = self.switch(value)?;
                return Ok(Encoded::Words(vec![bit as u16]));
            }
            Type::U16 => whole(value, 0, u16::MAX.into())? as u64,
            Type::I16 => whole(value, i16::MIN.into(), i16::MAX.into())? as u64,
            Type::U32 => whole(value, 0, u32::MAX.into())? as u64,
            Type::I32 => whole(value, i32::MIN.into(), i32::MAX.into())? as u64,
            Type::U64 => whole(value, 0, u64::MAX.into())? as u64,
            Type::I64 => whole(value, i64::MIN.into(), i64::MAX.into())? as u64,
            Type::F32 => {
                let number = value.number().filter(|v| (*v as f32).is_finite()).ok_or("Enter a number.")?;
                u64::from((number as f32).to_bits())
            }
            Type::F64 => value.number().filter(|v| v.is_finite()).ok_or("Enter a number.")?.to_bits(),
            Type::Bcd => {
                let mut number = whole(value, 0, 10_i128.pow(u32::from(self.length) * 4) - 1)?;
                let mut raw = 0;
                for i in 0..4 * self.length {
                    raw |= ((number % 10) as u64) << (4 * i);
                    number /= 10;
                }
                raw
            }
            Type::Text => return Err("Enter text.".into()),
        };
        Ok(Encoded::Words(self.scatter(raw)))
    }

    fn switch(&self, value: &Value) -> Result<u64, String> {
        match value.number() {
            Some(0.0) => Ok(0),
            Some(1.0) => Ok(1),
            _ => Err("The device holds only on and off here (1 and 0).".into()),
        }
    }
}

fn ones(count: u8) -> u64 {
    if count >= 64 { u64::MAX } else { (1 << count) - 1 }
}

/// A whole number within bounds, exactly: a fraction is refused, and so is a float so large that it stands for more than one.
fn whole(value: &Value, low: i128, high: i128) -> Result<i128, String> {
    let number = match value {
        Value::I64(v) => i128::from(*v),
        Value::U64(v) => i128::from(*v),
        other => {
            let number = other.number().filter(|v| v.is_finite()).ok_or("Enter a number.")?;
            if number.fract() != 0.0 {
                return Err(format!("The device holds only whole numbers here, not {number}."));
            }
            number as i128
        }
    };
    if (low..=high).contains(&number) { Ok(number) } else { Err(format!("The device can hold {low} to {high} here.")) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn shape(kind: Type, order: Order) -> Shape {
        Shape { length: 4, ..Shape::of(kind, order) }
    }

    #[rstest]
    #[case(Type::F32, Order::Abcd, &[0x4141, 0x999a], Value::F32(12.1))]
    #[case(Type::F32, Order::Cdab, &[0x999a, 0x4141], Value::F32(12.1))]
    #[case(Type::F32, Order::Badc, &[0x4141, 0x9a99], Value::F32(12.1))]
    #[case(Type::F32, Order::Dcba, &[0x9a99, 0x4141], Value::F32(12.1))]
    #[case(Type::F64, Order::Abcd, &[0x4028, 0x3333, 0x3333, 0x3333], Value::F64(12.1))]
    #[case(Type::F64, Order::Cdab, &[0x3333, 0x3333, 0x3333, 0x4028], Value::F64(12.1))]
    #[case(Type::U32, Order::Abcd, &[0x0001, 0x0002], Value::U64(65_538))]
    #[case(Type::U32, Order::Cdab, &[0x0002, 0x0001], Value::U64(65_538))]
    #[case(Type::I32, Order::Abcd, &[0xffff, 0xfffe], Value::I64(-2))]
    #[case(Type::I64, Order::Dcba, &[0xfeff, 0xffff, 0xffff, 0xffff], Value::I64(-2))]
    #[case(Type::U64, Order::Abcd, &[0xffff, 0xffff, 0xffff, 0xffff], Value::U64(u64::MAX))]
    #[case(Type::U64, Order::Abcd, &[0x0102, 0x0304, 0x0506, 0x0708], Value::U64(0x0102_0304_0506_0708))]
    #[case(Type::U64, Order::Cdab, &[0x0708, 0x0506, 0x0304, 0x0102], Value::U64(0x0102_0304_0506_0708))]
    #[case(Type::U64, Order::Badc, &[0x0201, 0x0403, 0x0605, 0x0807], Value::U64(0x0102_0304_0506_0708))]
    #[case(Type::U64, Order::Dcba, &[0x0807, 0x0605, 0x0403, 0x0201], Value::U64(0x0102_0304_0506_0708))]
    #[case(Type::U64, Order::Efghabcd, &[0x0506, 0x0708, 0x0102, 0x0304], Value::U64(0x0102_0304_0506_0708))]
    #[case(Type::U64, Order::Cdabghef, &[0x0304, 0x0102, 0x0708, 0x0506], Value::U64(0x0102_0304_0506_0708))]
    #[case(Type::U64, Order::Fehgbadc, &[0x0605, 0x0807, 0x0201, 0x0403], Value::U64(0x0102_0304_0506_0708))]
    #[case(Type::U64, Order::Dcbahgfe, &[0x0403, 0x0201, 0x0807, 0x0605], Value::U64(0x0102_0304_0506_0708))]
    #[case(Type::F32, Order::Efghabcd, &[0x4141, 0x999a], Value::F32(12.1))]
    #[case(Type::F32, Order::Dcbahgfe, &[0x9a99, 0x4141], Value::F32(12.1))]
    #[case(Type::I16, Order::Abcd, &[0xfffe], Value::I64(-2))]
    #[case(Type::U16, Order::Badc, &[0x0100], Value::U64(1))]
    #[case(Type::Bcd, Order::Abcd, &[0x0000, 0x0000, 0x1234, 0x5678], Value::U64(12_345_678))]
    #[case(Type::Text, Order::Abcd, &[0x4b58, 0x2d32, 0x0041, 0], Value::Text("KX-2".into()))]
    #[case(Type::Text, Order::Badc, &[0x584b, 0, 0, 0], Value::Text("KX".into()))]
    #[case(Type::Bool, Order::Abcd, &[1], Value::Bool(true))]
    fn decodes(#[case] kind: Type, #[case] order: Order, #[case] words: &[u16], #[case] expected: Value) {
        assert_eq!(shape(kind, order).decode(words), Ok(expected));
    }

    #[rstest]
    #[case(Type::Bool, (3, 1), &[0b1000], Value::Bool(true))]
    #[case(Type::Bool, (2, 1), &[0b1000], Value::Bool(false))]
    #[case(Type::U16, (4, 3), &[0b0101_0000], Value::U64(5))]
    #[case(Type::U32, (14, 4), &[0b11, 0xc000], Value::U64(15))]
    fn takes_bits_out_of_registers(#[case] kind: Type, #[case] bits: (u8, u8), #[case] words: &[u16], #[case] expected: Value) {
        assert_eq!(Shape { bits: Some(bits), ..Shape::of(kind, Order::Abcd) }.decode(words), Ok(expected));
    }

    #[rstest]
    #[case(Type::F32, &[0x7fc0, 0], Reason::NotANumber)]
    #[case(Type::F32, &[0x7f80, 0], Reason::NotANumber)]
    #[case(Type::Bcd, &[0, 0, 0, 0x000a], Reason::NotANumber)]
    #[case(Type::U32, &[1], Reason::WrongAnswer)]
    #[case(Type::F64, &[1, 2, 3], Reason::WrongAnswer)]
    #[case(Type::Text, &[1, 2, 3], Reason::WrongAnswer)]
    #[case(Type::U16, &[], Reason::WrongAnswer)]
    fn refuses(#[case] kind: Type, #[case] words: &[u16], #[case] reason: Reason) {
        assert_eq!(shape(kind, Order::Abcd).decode(words), Err(reason));
    }

    #[rstest]
    #[case(Type::U16, Value::F64(65_536.0))]
    #[case(Type::U16, Value::F64(-1.0))]
    #[case(Type::U16, Value::F64(12.5))]
    #[case(Type::Bool, Value::F64(2.0))]
    #[case(Type::U64, Value::F64(1e20))]
    #[case(Type::I16, Value::F64(40_000.0))]
    #[case(Type::I64, Value::U64(u64::MAX))]
    #[case(Type::F32, Value::F64(1e300))]
    #[case(Type::F32, Value::Text("much".into()))]
    #[case(Type::Bcd, Value::F64(10_000.0))]
    #[case(Type::Text, Value::Text("long".into()))]
    fn refuses_to_encode(#[case] kind: Type, #[case] value: Value) {
        assert!(Shape::of(kind, Order::Abcd).encode(&value).is_err());
    }

    #[test]
    fn a_range_of_bits_is_written_under_a_mask() {
        let shape = Shape { bits: Some((14, 4)), ..Shape::of(Type::U32, Order::Abcd) };
        assert_eq!(shape.encode(&Value::U64(9)), Ok(Encoded::Masked(vec![(0b11, 0b10), (0xc000, 0x4000)])));
        assert!(shape.encode(&Value::U64(16)).is_err());
        let turned = Shape { bits: Some((0, 1)), ..Shape::of(Type::Bool, Order::Badc) };
        assert_eq!(turned.encode(&Value::Bool(true)), Ok(Encoded::Masked(vec![(0x0100, 0x0100)])));
    }

    #[test]
    fn orders_are_written_as_they_are_shown() {
        for order in Order::ALL {
            assert_eq!(serde_json::to_value(order).unwrap(), order.name());
        }
    }

    fn any_order() -> impl Strategy<Value = Order> {
        prop::sample::select(Order::ALL.to_vec())
    }

    proptest! {
        #[test]
        fn what_is_encoded_decodes(order in any_order(), bits in any::<u64>(), text in "[ -~]{0,8}", at in 0u8..16, many in 1u8..17) {
            let (single, double) = (f32::from_bits(bits as u32), f64::from_bits(bits));
            let cases = [
                (Type::U16, Value::U64(bits & 0xffff)), (Type::I16, Value::I64(i64::from(bits as i16))),
                (Type::U32, Value::U64(bits & 0xffff_ffff)), (Type::I32, Value::I64(i64::from(bits as i32))),
                (Type::U64, Value::U64(bits)), (Type::I64, Value::I64(bits as i64)),
                (Type::Bool, Value::Bool(bits & 1 == 1)), (Type::Text, Value::Text(text.trim_end().to_owned())),
                (Type::Bcd, Value::U64(bits % 10_u64.pow(16))),
                (Type::F32, Value::F32(if single.is_finite() { single } else { 1.5 })),
                (Type::F64, Value::F64(if double.is_finite() { double } else { 1.5 })),
            ];
            for (kind, value) in cases {
                let shape = shape(kind, order);
                let Encoded::Words(words) = shape.encode(&value).unwrap() else { panic!("no mask") };
                prop_assert_eq!(words.len(), usize::from(shape.width()));
                prop_assert_eq!(shape.decode(&words), Ok(value));
            }
            // Under a mask only its own bits change, and read back as what was written.
            let shape = Shape { bits: Some((at, many)), ..Shape::of(Type::U32, order) };
            let value = Value::U64(bits & ones(many));
            let Encoded::Masked(masks) = shape.encode(&value).unwrap() else { panic!("a mask") };
            let before = [bits as u16, (bits >> 16) as u16];
            let after: Vec<u16> = masks.iter().zip(before).map(|((mask, set), word)| word & !mask | set).collect();
            prop_assert_eq!(shape.decode(&after), Ok(value));
            prop_assert_eq!(masks.iter().map(|(mask, _)| mask.count_ones()).sum::<u32>(), u32::from(many));
        }
    }
}
