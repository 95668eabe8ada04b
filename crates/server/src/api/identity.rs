//! The certificate by which servers know this installation: shown, handed out, renewed.

use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, get,
    http::header::{CONTENT_DISPOSITION, CONTENT_TYPE},
    post,
    web::Data,
};
use havrel_core::{access::Action, time::to_text};
use havrel_link::{Identities as _, Identity, LinkError, certificate::shown};
use havrel_live::LiveError;
use serde::Serialize;
use serde_json::json;
use std::sync::Arc;
use utoipa::ToSchema;

/// A certificate as people compare it.
#[derive(Serialize, ToSchema)]
pub struct IdentityView {
    /// Such as `CN=Havrel on plant-pc`.
    pub subject: String,
    /// The URI by which servers name the application.
    pub uri: String,
    /// Names of the machine that stand in it.
    pub hosts: Vec<String>,
    pub from: String,
    pub until: String,
    /// SHA-256: pairs of digits with colons.
    pub fingerprint: String,
}

fn view(held: &Identity) -> Result<Json<IdentityView>, Problem> {
    let told = held.told().ok_or_else(|| Problem::failed("the own certificate cannot be read"))?;
    Ok(Json(IdentityView {
        subject: told.subject,
        uri: told.uris.into_iter().next().unwrap_or_default(),
        hosts: told.hosts,
        from: to_text(told.from),
        until: to_text(told.until),
        fingerprint: shown(&told.fingerprint),
    }))
}

/// Asks for it where a second does not matter.
async fn asked(
    app: &App,
    ask: impl FnOnce(&havrel_live::identity::Own) -> Result<Arc<Identity>, LinkError> + Send + 'static,
) -> Result<Arc<Identity>, Problem> {
    let own = app.live.identity.clone();
    let held = tokio::task::spawn_blocking(move || ask(&own)).await;
    held.map_err(|e| Problem::failed(&e.to_string()))?.map_err(|e| LiveError::from(e).into())
}

/// The certificate of this installation; it is made when it is first asked for.
#[utoipa::path(responses((status = 200, body = IdentityView), (status = 502, body = Problem)))]
#[get("/api/identity")]
pub async fn identity(app: Data<App>, person: Person) -> Result<Json<IdentityView>, Problem> {
    person.may(Action::Configure)?;
    view(&*asked(&app, |own| own.identity()).await?)
}

/// The certificate as a file (DER), to be trusted at servers.
#[utoipa::path(responses((status = 200, content_type = "application/pkix-cert", body = [u8]), (status = 502, body = Problem)))]
#[get("/api/identity/certificate")]
pub async fn identity_file(app: Data<App>, person: Person) -> Result<HttpResponse, Problem> {
    person.may(Action::Configure)?;
    let held = asked(&app, |own| own.identity()).await?;
    let name = (CONTENT_DISPOSITION, "attachment; filename=\"havrel.der\"");
    let kind = (CONTENT_TYPE, "application/pkix-cert");
    Ok(HttpResponse::Ok().insert_header(kind).insert_header(name).body(held.certificate.clone()))
}

/// Replaces the certificate. Sessions that are open go on; new ones show the new certificate, which every server has to trust.
#[utoipa::path(responses((status = 200, body = IdentityView), (status = 502, body = Problem)))]
#[post("/api/identity")]
pub async fn renew_identity(app: Data<App>, person: Person) -> Result<Json<IdentityView>, Problem> {
    let actor = person.may(Action::Configure)?;
    let view = view(&*asked(&app, |own| own.renew()).await?)?;
    let detail = json!({"fingerprint": view.fingerprint});
    app.live.note("connection", Some(actor), None, "Made a new certificate of Havrel for servers", detail).await?;
    Ok(view)
}
