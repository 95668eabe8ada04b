//! The routes, and the server that answers on them.

use crate::{api, app::App, assets, auth, body, describe::describe, guard, metrics, problem::Problem, socket};
use actix_web::{HttpServer, dev::Server, http::StatusCode, middleware::from_fn, web};
use std::{io, net::TcpListener};
use utoipa_actix_web::AppExt;

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
            .service(api::browse::browse)
            .service(api::browse::scan)
            .service(api::browse::listed)
            .service(api::connect::kinds)
            .service(api::connect::take_path)
            .service(api::connect::fill)
            .service(api::connect::stop_filling)
            .service(api::identity::identity)
            .service(api::identity::identity_file)
            .service(api::identity::renew_identity)
            .service(api::traffic::traffic)
            .service(api::traffic::raw_values)
            .service(api::arrivals::arrivals)
            .service(api::arrivals::try_mapping)
            .service(api::arrivals::undo_arrival)
            .service(api::arrivals::arrive_again)
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
            .service(api::by_hand::by_hand)
            .service(api::by_hand::set_by_hand)
            .service(api::by_hand::release)
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
            .service(api::remarks::find_notes)
            .service(api::remarks::add_note)
            .service(api::remarks::remove_note)
            .service(api::remarks::kept_trends)
            .service(api::remarks::keep_trend)
            .service(api::remarks::forget_trend)
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
