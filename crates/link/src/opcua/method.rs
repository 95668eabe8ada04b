//! Methods of a server (OPC UA Part 4, 5.12): what they take, and calling them. A call is never repeated by itself.

use super::{
    learn::plain,
    node::standard_type,
    server::{Server, attribute},
    status,
    value::{value, variant},
};
use crate::LinkError;
use havrel_core::sample::Value;
use opcua::types::{
    Argument, AttributeId, BrowseDescription, BrowseDirection, BrowseResultMaskFlags, CallMethodRequest, NodeClassMask, NodeId,
    ReferenceTypeId, StatusCode, Variant, VariantScalarTypeId,
};
use serde_json::Value as Json;

/// Most arguments of a method, and most of its properties that are looked at.
const MOST: usize = 20;

/// The arguments in the property “InputArguments” (Part 3, 8.6).
pub(super) fn arguments(held: Option<&Variant>) -> Vec<Argument> {
    let Some(Variant::Array(all)) = held else { return Vec::new() };
    let argument = |held: &Variant| match held {
        Variant::ExtensionObject(held) => held.inner_as::<Argument>().cloned(),
        _ => None,
    };
    all.values.iter().take(MOST).filter_map(argument).collect()
}

/// The same in words, as a form asks for them: `From: UInt32, Name: String`.
pub(super) fn in_words(all: &[Argument]) -> String {
    let mark = |c: char| c.is_control() || [',', ':'].contains(&c);
    let plain = |text: &str| text.chars().take(40).map(|c| if mark(c) { ' ' } else { c }).collect::<String>();
    let one = |argument: &Argument| format!("{}: {}", plain(argument.name.as_ref()), kind_of(argument));
    all.iter().map(one).collect::<Vec<_>>().join(", ")
}

/// The type of an argument by name; one of the server’s own is told by its node id.
fn kind_of(argument: &Argument) -> String {
    let name = standard_type(&argument.data_type).unwrap_or_else(|| argument.data_type.to_string().replace([',', ':'], " "));
    if argument.value_rank >= 1 { format!("{name} array") } else { name }
}

/// Asks for what a method takes.
async fn taken(server: &Server, method: &NodeId) -> Result<Vec<Argument>, LinkError> {
    let asked = BrowseDescription {
        node_id: method.clone(),
        browse_direction: BrowseDirection::Forward,
        reference_type_id: ReferenceTypeId::HasProperty.into(),
        include_subtypes: true,
        node_class_mask: NodeClassMask::VARIABLE.bits(),
        result_mask: BrowseResultMaskFlags::all().bits(),
    };
    let told = server.browse(&[asked], MOST as u32).await?.into_iter().next();
    let mut properties = told.and_then(|told| told.references).unwrap_or_default().into_iter();
    let Some(inputs) = properties.find(|p| p.browse_name.name.as_ref() == "InputArguments") else { return Ok(Vec::new()) };
    let told = server.read(&[attribute(&inputs.node_id.node_id, AttributeId::Value)]).await?;
    Ok(arguments(told[0].value.as_ref()))
}

/// Calls a method with what was given: nothing is looked at where it takes nothing, one value where it takes one, and a list as JSON
/// where it takes several. Gives what came back, or else what it was called with.
///
/// # Errors
/// When the arguments do not fit, or the server refuses the call.
pub(super) async fn call(server: &Server, object: NodeId, method: NodeId, given: &Value) -> Result<Value, LinkError> {
    let wanted = taken(server, &method).await?;
    let refused = |words: String| LinkError::BadRequest(words);
    let values = fitting(&wanted, given).map_err(refused)?;
    let mut sent = Vec::with_capacity(values.len());
    for (argument, value) in wanted.iter().zip(values) {
        let kind = plain(server, &argument.data_type).await?.filter(|_| argument.value_rank < 1);
        let kind =
            kind.ok_or_else(|| refused(format!("Havrel cannot give “{}” of the method: only single values.", argument.name)))?;
        // Where any type is taken, the value says which.
        let made = if kind == VariantScalarTypeId::Variant { Ok(any(&value)) } else { variant(&number(value, kind), kind) };
        sent.push(made.map_err(|words| refused(format!("“{}” does not fit: {words}", argument.name)))?);
    }
    let request = CallMethodRequest { object_id: object, method_id: method, input_arguments: Some(sent) };
    let told = server.session.call(vec![request]).await.map_err(|e| server.failed(&e))?;
    let told = told.into_iter().next().ok_or_else(|| LinkError::WrongAnswer("no result of the call came".into()))?;
    let wrong = told.input_argument_results.iter().flatten().position(StatusCode::is_bad);
    if let Some((argument, code)) = wrong.and_then(|n| Some((wanted.get(n)?, told.input_argument_results.as_ref()?.get(n)?))) {
        return Err(refused(format!("The server refuses “{}”: {}", argument.name, status::error(*code, server.timeout_ms))));
    }
    if told.status_code.is_bad() {
        return Err(status::error(told.status_code, server.timeout_ms));
    }
    let first = told.output_arguments.and_then(|all| all.into_iter().next());
    // One that gives something which no tag holds was called all the same.
    Ok(first.and_then(|held| value(&held).ok()).unwrap_or_else(|| given.clone()))
}

/// The value of each argument.
fn fitting(wanted: &[Argument], given: &Value) -> Result<Vec<Value>, String> {
    match wanted {
        [] => Ok(Vec::new()),
        [_] => Ok(vec![given.clone()]),
        several => {
            let told = format!("The method takes {}. Enter a list, such as [1, \"A\"].", in_words(several));
            let Value::Text(text) = given else { return Err(told) };
            let Ok(Json::Array(list)) = serde_json::from_str::<Json>(text) else { return Err(told) };
            let values: Option<Vec<Value>> = list.iter().map(of_json).collect();
            values.filter(|values| values.len() == several.len()).ok_or(told)
        }
    }
}

fn of_json(json: &Json) -> Option<Value> {
    match json {
        Json::Bool(on) => Some(Value::Bool(*on)),
        Json::Number(number) => Value::of_json(number),
        Json::String(text) => Some(Value::Text(text.clone())),
        _ => None,
    }
}

/// A number of many digits travels as text.
fn number(value: Value, kind: VariantScalarTypeId) -> Value {
    match &value {
        Value::Text(digits) if !matches!(kind, VariantScalarTypeId::String | VariantScalarTypeId::LocalizedText) => {
            Value::of_digits(digits).unwrap_or(value)
        }
        _ => value,
    }
}

fn any(value: &Value) -> Variant {
    match value {
        Value::Bool(v) => Variant::Boolean(*v),
        Value::I64(v) => Variant::Int64(*v),
        Value::U64(v) => Variant::UInt64(*v),
        Value::F32(v) => Variant::Float(*v),
        Value::F64(v) => Variant::Double(*v),
        Value::Text(v) => Variant::from(v.as_str()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use opcua::types::DataTypeId;
    use rstest::rstest;

    fn argument(name: &str, kind: DataTypeId) -> Argument {
        Argument { name: name.into(), data_type: kind.into(), value_rank: -1, ..Argument::default() }
    }

    #[test]
    fn arguments_are_told_by_name_and_type() {
        let all = [argument("From, at: most", DataTypeId::UInt32), argument("Name", DataTypeId::String)];
        assert_eq!(in_words(&all), "From  at  most: UInt32, Name: String");
    }

    #[rstest]
    #[case(0, Value::Bool(true), Some(vec![]))]
    #[case(1, Value::F64(5.0), Some(vec![Value::F64(5.0)]))]
    #[case(2, Value::Text("[5, \"A\"]".into()), Some(vec![Value::F64(5.0), Value::Text("A".into())]))]
    #[case(2, Value::Text("[5]".into()), None)]
    #[case(2, Value::Text("[5, [6]]".into()), None)]
    #[case(2, Value::Text("5".into()), None)]
    #[case(2, Value::F64(5.0), None)]
    fn each_argument_gets_its_value(#[case] count: usize, #[case] given: Value, #[case] expected: Option<Vec<Value>>) {
        let wanted = vec![argument("A", DataTypeId::UInt32); count];
        assert_eq!(fitting(&wanted, &given).ok(), expected);
    }
}
