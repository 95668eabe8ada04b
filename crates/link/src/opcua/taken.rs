//! Values of OPC UA as samples of tags: which part a tag takes, with its time, quality and scaling.

use super::{part::Part, shapes::Shapes, status, value::nanos};
use havrel_core::{
    TagNo,
    quality::{Quality, Reason},
    sample::{Batch, Value, flag},
    scale::Scaling,
    time::Nanos,
};
use opcua::types::{DataValue, StatusCode, Variant};

/// What a tag takes of a value.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Taken {
    pub part: Part,
    pub scaling: Option<Scaling>,
}

impl Taken {
    /// The value of a tag, in engineering units, and whether it was clamped.
    ///
    /// # Errors
    /// Why a tag cannot hold it.
    pub fn of(&self, held: &Variant, shapes: &Shapes) -> Result<(Value, bool), Reason> {
        self.part.value(held, shapes).map(|raw| Scaling::of(self.scaling, raw))
    }
}

/// Adds what a server says of a node to a batch: with the source's time, else the server's, else the time of arrival.
pub fn push(batch: &mut Batch, tag: TagNo, data: &DataValue, taken: &Taken, shapes: &Shapes, arrived: Nanos) {
    let code = data.status.unwrap_or(StatusCode::Good);
    let source = data.source_timestamp.and_then(|time| nanos(time, data.source_picoseconds));
    let own = source.or_else(|| data.server_timestamp.and_then(|time| nanos(time, data.server_picoseconds)));
    let (time, mut flags) = (own.unwrap_or(arrived), if own.is_some() { flag::OWN_TIME } else { 0 });
    if code.overflow() {
        flags |= flag::AFTER_GAP;
    }
    let mut quality = status::quality(code);
    let read = match &data.value {
        None | Some(Variant::Empty) => None,
        // What comes along with a bad status is not to be used (Part 8, 6.3).
        Some(_) if quality.is_bad() => None,
        Some(variant) => match taken.of(variant, shapes) {
            Ok(value) => Some(value),
            Err(reason) => {
                quality = Quality::of(reason);
                None
            }
        },
    };
    match read {
        Some((value, clamped)) => {
            if clamped && quality == Quality::GOOD {
                quality = Quality::of(Reason::Clamped);
            }
            batch.push(tag, time, quality, flags, &value);
        }
        // A good status without any value says that there is none.
        None if quality == Quality::GOOD => empty(batch, tag, time, Quality::of(Reason::WaitingForData), flags),
        None => empty(batch, tag, time, quality, flags),
    }
}

fn empty(batch: &mut Batch, tag: TagNo, time: Nanos, quality: Quality, flags: u8) {
    batch.push_quality(tag, time, quality);
    if let Some(sample) = batch.samples.last_mut() {
        sample.flags = flags;
    }
}

#[cfg(test)]
mod tests {
    use super::{super::value::ticks, *};
    use havrel_core::time::SECOND;
    use opcua::types::DateTime;

    #[test]
    fn the_time_of_the_source_comes_before_that_of_the_server() {
        let at = |seconds: i64| DateTime::from(ticks(seconds * SECOND));
        let mut data = DataValue { value: Some(Variant::Int32(1)), ..DataValue::default() };
        let mut batch = Batch::default();
        push(&mut batch, 3, &data, &Taken::default(), &Shapes::default(), 99);
        data.server_timestamp = Some(at(20));
        push(&mut batch, 3, &data, &Taken::default(), &Shapes::default(), 99);
        (data.source_timestamp, data.source_picoseconds) = (Some(at(10)), Some(4200));
        push(&mut batch, 3, &data, &Taken::default(), &Shapes::default(), 99);
        let told: Vec<_> = batch.samples.iter().map(|s| (s.time, s.flags)).collect();
        assert_eq!(told, [(99, 0), (20_000_000_000, flag::OWN_TIME), (10_000_000_042, flag::OWN_TIME)]);
    }

    #[test]
    fn an_overflow_marks_a_gap_and_a_status_without_value_keeps_the_last_one() {
        let mut batch = Batch::default();
        let overflow = StatusCode::from(0x0000_0480);
        push(
            &mut batch,
            3,
            &DataValue { value: Some(Variant::Int32(1)), status: Some(overflow), ..DataValue::default() },
            &Taken::default(),
            &Shapes::default(),
            9,
        );
        let failed = DataValue { status: Some(StatusCode::BadSensorFailure), ..DataValue::default() };
        push(&mut batch, 3, &failed, &Taken::default(), &Shapes::default(), 9);
        push(&mut batch, 3, &DataValue::default(), &Taken::default(), &Shapes::default(), 9);
        assert_eq!((batch.samples[0].flags, batch.samples[0].quality), (flag::AFTER_GAP, Quality::GOOD));
        assert_eq!(batch.samples[1].quality.reason(), Reason::SensorFailure);
        assert_eq!(batch.samples[2].quality.reason(), Reason::WaitingForData);
        assert_eq!(batch.value_of(batch.samples[1]), None);
    }
}
