//! What the description of the interface says of all operations alike.

use crate::feed::FeedMessage;
use havrel_link::form::Choice;
use utoipa::{
    PartialSchema as _, ToSchema as _,
    openapi::{
        ContentBuilder, Ref, RefOr, ResponseBuilder,
        path::{Operation, Parameter},
    },
};

/// Adds title, version and how each operation may be refused.
pub(crate) fn describe(mut document: utoipa::openapi::OpenApi) -> utoipa::openapi::OpenApi {
    document.info.title = "Havrel".into();
    document.info.version = "1".into();
    document.info.description =
        Some("Times are RFC 3339 with up to nine fraction digits. Errors are problem documents (RFC 9457).".into());
    document.info.license = None;
    document.info.contact = None;
    // The feed is no operation that a document of this kind can tell of; its messages are.
    let mut schemas = vec![(FeedMessage::name().into_owned(), FeedMessage::schema())];
    FeedMessage::schemas(&mut schemas);
    // Controls hold fields, and these controls, so what a control names is not collected by itself.
    schemas.push((Choice::name().into_owned(), Choice::schema()));
    Choice::schemas(&mut schemas);
    document.components.get_or_insert_default().schemas.extend(schemas);
    for (path, item) in &mut document.paths.paths {
        let operations = [&mut item.get, &mut item.post, &mut item.put, &mut item.patch, &mut item.delete];
        operations.into_iter().flatten().for_each(|operation| describe_refusals(path, operation));
    }
    document
}

/// How an operation may be refused: the same for all that take the same way, so it is said once, here.
fn describe_refusals(path: &str, operation: &mut Operation) {
    let open = ["/api/health", "/api/session", "/api/session/first"].contains(&path);
    let mut refusals = vec![("400", "The request cannot be read"), ("421", "The server does not answer to this name")];
    refusals.extend([("429", "Too many requests"), ("500", "A fault of Havrel"), ("503", "Not at present; try again later")]);
    if !open {
        refusals.push(("401", "Nobody is signed in"));
    }
    refusals.push(("403", "The role is not sufficient, or the request comes from a page of another site"));
    if path.contains('{') {
        refusals.push(("404", "There is no such thing"));
    }
    // A body may be sent to any operation, and is refused where it is packed.
    refusals.push(("415", "The body must be of another kind, or not compressed"));
    if operation.request_body.is_some() {
        refusals.extend([
            ("404", "Something that it names does not exist"),
            ("408", "The body came too slowly"),
            ("409", "It conflicts with what exists"),
            ("413", "The body is too large"),
            ("422", "A value in the body is invalid"),
        ]);
    } else if operation.parameters.as_ref().is_some_and(|all| !all.is_empty()) {
        refusals.push(("422", "A parameter is invalid"));
    }
    let header = |p: &RefOr<Parameter>| matches!(p, RefOr::T(p) if p.name.eq_ignore_ascii_case("if-match"));
    if operation.parameters.as_ref().is_some_and(|all| all.iter().any(header)) {
        refusals.extend([("412", "It was changed meanwhile"), ("428", "The revision that was seen is missing")]);
    }
    let problem = || ContentBuilder::new().schema(Some(Ref::from_schema_name("Problem"))).build();
    let refused = |words: &str| ResponseBuilder::new().description(words).content("application/problem+json", problem()).build();
    for (status, response) in &mut operation.responses.responses {
        // Whatever is refused is refused with the same kind of document.
        if status.as_str() >= "400"
            && path != "/api/health"
            && let RefOr::T(response) = response
        {
            *response = refused(&response.description);
        }
    }
    for (status, words) in refusals {
        operation.responses.responses.entry(status.into()).or_insert_with(|| refused(words).into());
    }
}
