//! The application: what its handlers share, and its routes.

use crate::{api, assets, auth, guard, guard::Rates, metrics, problem::Problem, socket};
use actix_session::{SessionMiddleware, storage::CookieSessionStore};
use actix_web::{
    HttpServer,
    cookie::{Key, SameSite},
    dev::Server,
    http::StatusCode,
    middleware::from_fn,
    web,
};
use havrel_core::access::Actor;
use havrel_db::own::Token;
use havrel_live::Live;
use std::{
    collections::HashMap,
    io,
    net::{SocketAddr, TcpListener},
    sync::{Arc, Mutex, atomic::AtomicUsize},
    time::Instant,
};
use tokio::sync::Semaphore;
use utoipa_actix_web::AppExt;
use uuid::Uuid;

/// What all handlers share.
pub struct App {
    pub live: Arc<Live>,
    pub rates: Rates,
    /// Names beside the loopback's under which browsers may ask.
    pub hosts: Vec<String>,
    /// Accounts seen lately, so that values go on while the database is away.
    pub(crate) people: Mutex<HashMap<Uuid, (Actor, Instant)>>,
    /// Tokens seen lately, by their hashes, for the same.
    pub(crate) tokens: Mutex<HashMap<Vec<u8>, Token>>,
    pub(crate) sockets: AtomicUsize,
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
        let (people, sockets) = (Mutex::default(), AtomicUsize::new(0));
        App {
            live,
            rates: Rates::default(),
            hosts,
            people,
            tokens: Mutex::default(),
            sockets,
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

/// Bodies of ordinary requests.
const BODY: usize = 1 << 20;

/// Serves a plant on a listener.
///
/// # Errors
/// When the listener cannot be used.
pub fn serve(app: App, cookie_key: &[u8], listener: TcpListener) -> io::Result<Server> {
    let app = web::Data::new(app);
    let key = Key::from(cookie_key);
    let server = HttpServer::new(move || {
        let json = web::JsonConfig::default().limit(BODY).error_handler(|error, _| {
            let status = if matches!(
                error,
                actix_web::error::JsonPayloadError::Overflow { .. }
                    | actix_web::error::JsonPayloadError::OverflowKnownLength { .. }
            ) {
                StatusCode::PAYLOAD_TOO_LARGE
            } else {
                StatusCode::BAD_REQUEST
            };
            Problem::new(status, format!("The request could not be read: {error}.")).into()
        });
        let query = web::QueryConfig::default()
            .error_handler(|e, _| Problem::new(StatusCode::BAD_REQUEST, format!("The address could not be read: {e}.")).into());
        let path = web::PathConfig::default().error_handler(|_, _| Problem::missing("page").into());
        let session = SessionMiddleware::builder(CookieSessionStore::default(), key.clone())
            .cookie_name("havrel".into())
            .cookie_http_only(true)
            .cookie_same_site(SameSite::Strict)
            // The server itself speaks HTTP on loopback; whoever puts it behind TLS sets the flag at the proxy.
            .cookie_secure(false)
            .build();
        let (router, document) = actix_web::App::new()
            .into_utoipa_app()
            .app_data(app.clone())
            .app_data(json)
            .app_data(query)
            .app_data(path)
            .app_data(web::PayloadConfig::new(BODY))
            .service(auth::state)
            .service(auth::sign_in)
            .service(auth::first_account)
            .service(auth::sign_out)
            .service(auth::add_account)
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
            .wrap(session)
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
    document
}
