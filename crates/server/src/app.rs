//! The application: what its handlers share, and its routes.

use crate::{
    api, assets, auth, body, guard, limits::Limits, metrics, problem::Problem, sessions::Sessions, socket, tokens::Tokens,
};
use actix_web::{HttpServer, dev::Server, http::StatusCode, middleware::from_fn, web};
use havrel_core::time::SECOND;
use havrel_db::people::SessionLimits;
use havrel_live::Live;
use std::{
    collections::HashMap,
    io,
    net::{IpAddr, SocketAddr, TcpListener},
    sync::{Arc, Mutex, atomic::AtomicUsize},
};
use tokio::sync::Semaphore;
use utoipa::openapi::{
    ContentBuilder, Ref, RefOr, ResponseBuilder,
    path::{Operation, Parameter},
};
use utoipa_actix_web::AppExt;
use uuid::Uuid;

/// What all handlers share.
pub struct App {
    pub live: Arc<Live>,
    pub limits: Limits,
    pub sessions: Sessions,
    /// Tokens of programs, as they were seen lately.
    pub tokens: Tokens,
    /// Names beside the loopback's under which browsers may ask.
    pub hosts: Vec<String>,
    /// Proxies whose forwarded headers count.
    pub proxies: Vec<IpAddr>,
    pub(crate) sockets: AtomicUsize,
    /// The same by account.
    pub(crate) sockets_of: Mutex<HashMap<Uuid, usize>>,
    /// Whose turn it is to print a PDF.
    pub(crate) press: Semaphore,
    /// Whose turn it is to compare a file.
    pub(crate) heavy: Semaphore,
    pub(crate) files: api::files::Files,
    /// The tags that programs can push to, for one revision.
    pub(crate) push_index: Mutex<Option<Arc<api::push::Index>>>,
    /// Where the demo's simulated plant takes orders.
    pub standin: Option<SocketAddr>,
    /// Tells browsers that the server was started anew.
    pub epoch: Uuid,
}

impl App {
    /// Shares a plant.
    pub fn new(live: Arc<Live>, hosts: Vec<String>) -> App {
        App {
            live,
            limits: Limits::default(),
            sessions: Sessions::new(SESSION_LIMITS),
            tokens: Tokens::default(),
            hosts,
            proxies: Vec::new(),
            sockets: AtomicUsize::new(0),
            sockets_of: Mutex::default(),
            standin: None,
            press: Semaphore::new(1),
            heavy: Semaphore::new(1),
            files: api::files::Files::default(),
            push_index: Mutex::default(),
            epoch: Uuid::new_v4(),
        }
    }

    pub(crate) fn answers_to(&self, host: &str) -> bool {
        let name = guard::without_port(host);
        ["localhost", "127.0.0.1", "[::1]"].contains(&name) || self.hosts.iter().any(|h| h.eq_ignore_ascii_case(name))
    }
}

/// When sessions end by themselves, unless told otherwise.
pub const SESSION_LIMITS: SessionLimits = SessionLimits { idle: 12 * 3600 * SECOND, longest: 30 * 86_400 * SECOND };

/// Serves a plant on a listener.
///
/// # Errors
/// When the listener cannot be used.
pub fn serve(app: App, listener: TcpListener) -> io::Result<Server> {
    let app = web::Data::new(app);
    let server = HttpServer::new(move || {
        let query = web::QueryConfig::default()
            .error_handler(|e, _| Problem::new(StatusCode::BAD_REQUEST, format!("The address could not be read: {e}.")).into());
        let path = web::PathConfig::default().error_handler(|_, _| Problem::missing("page").into());
        let (router, document) = actix_web::App::new()
            .into_utoipa_app()
            .app_data(app.clone())
            .app_data(query)
            .app_data(path)
            .app_data(web::PayloadConfig::new(body::ORDINARY))
            .service(auth::state)
            .service(auth::sign_in)
            .service(auth::first_account)
            .service(auth::sign_out)
            .service(api::accounts::accounts)
            .service(api::accounts::add_account)
            .service(api::accounts::change_account)
            .service(api::accounts::own_password)
            .service(api::accounts::sessions)
            .service(api::accounts::end_sessions)
            .service(api::accounts::end_session)
            .service(api::plant::find)
            .service(api::plant::list)
            .service(api::plant::uses)
            .service(api::plant::change)
            .service(api::plant::copy_places)
            .service(api::tree::tree)
            .service(api::files::table_file)
            .service(api::files::plant_file)
            .service(api::files::compare_file)
            .service(api::files::compared_file)
            .service(api::files::take_file)
            .service(api::files::forget_file)
            .service(api::views::kept_views)
            .service(api::views::keep_view)
            .service(api::views::forget_view)
            .service(api::table::columns)
            .service(api::table::write_rows)
            .service(api::revisions::plan_undo)
            .service(api::revisions::take_back)
            .service(api::revisions::go_back)
            .service(api::revisions::compare)
            .service(api::revisions::revisions)
            .service(api::connect::test)
            .service(api::connect::look)
            .service(api::connect::scan)
            .service(api::connect::take_path)
            .service(api::traffic::traffic)
            .service(api::traffic::raw_values)
            .service(api::intake::outline)
            .service(api::intake::register_map)
            .service(api::intake::names)
            .service(api::intake::points)
            .service(api::intake::clashes)
            .service(api::exchange::export_connections)
            .service(api::exchange::import_connections)
            .service(api::push::push)
            .service(api::push::tokens)
            .service(api::push::make_token)
            .service(api::push::revoke_token)
            .service(api::connect::check_point)
            .service(api::values::newest)
            .service(api::values::write)
            .service(api::hands::by_hand)
            .service(api::hands::set_by_hand)
            .service(api::hands::release)
            .service(api::units::units)
            .service(api::history::pixels)
            .service(api::history::raw)
            .service(api::history::spans)
            .service(api::history::import)
            .service(api::jobs::cancel)
            .service(api::alarms::standing)
            .service(api::alarms::acknowledge)
            .service(api::alarms::events)
            .service(api::alarms::alarm_spans)
            .service(api::reports::preview)
            .service(api::reports::make)
            .service(api::reports::editions)
            .service(api::reports::fetch)
            .service(api::journal::read)
            .service(api::sheets::tag_sheet)
            .service(api::sheets::alarm_sheet)
            .service(api::marks::find_notes)
            .service(api::marks::add_note)
            .service(api::marks::remove_note)
            .service(api::marks::kept_trends)
            .service(api::marks::keep_trend)
            .service(api::marks::forget_trend)
            .service(api::demo::faults)
            .service(api::demo::begin)
            .service(api::demo::clear)
            .service(api::health)
            .split_for_parts();
        router
            .app_data(web::Data::new(api::Document(describe(document))))
            .service(api::openapi)
            .route("/metrics", web::get().to(metrics::metrics))
            .route("/api/live", web::get().to(socket::open))
            .route("/api/{other:.*}", web::to(async || Problem::missing("page").error()))
            .default_service(web::get().to(assets::file))
            .wrap(from_fn(guard::guard))
            .wrap(actix_web::middleware::Compress::default())
    });
    // A compressed answer leaves in pieces; to hold small ones back would let browsers wait 40 ms for the rest.
    let server = server.tcp_nodelay(true);
    Ok(server.listen(listener)?.workers(2).shutdown_timeout(3).disable_signals().run())
}

impl Problem {
    fn error(self) -> actix_web::HttpResponse {
        actix_web::ResponseError::error_response(&self)
    }
}

fn describe(mut document: utoipa::openapi::OpenApi) -> utoipa::openapi::OpenApi {
    document.info.title = "Havrel".into();
    document.info.version = "1".into();
    document.info.description =
        Some("Times are RFC 3339 with up to nine fraction digits. Errors are problem documents (RFC 9457).".into());
    document.info.license = None;
    document.info.contact = None;
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
