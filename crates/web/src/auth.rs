//! Accounts: the first one, signing in and out, and who is behind a request.

use crate::{app::App, problem::Problem};
use actix_session::{Session, SessionExt};
use actix_web::{
    FromRequest, HttpRequest, HttpResponse, delete,
    dev::Payload,
    get,
    http::StatusCode,
    post,
    web::{Data, Json},
};
use argon2::{Argon2, PasswordHasher, PasswordVerifier, password_hash::phc::PasswordHash};
use havrel_core::access::{Action, Actor, Role, may};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::{
    future::Future,
    pin::Pin,
    sync::PoisonError,
    time::{Duration, Instant},
};
use utoipa::ToSchema;
use uuid::Uuid;

const KEY: &str = "account";
/// How long an account seen is believed without asking the database again.
const FRESH: Duration = Duration::from_secs(10);
/// How many accounts are remembered.
const REMEMBERED: usize = 10_000;

/// Who is signed in.
#[derive(Debug, Serialize, ToSchema)]
pub struct SessionState {
    pub signed_in: bool,
    /// Nobody has an account yet: make the first.
    pub needs_first: bool,
    pub name: String,
    /// `viewer`, `operator` or `engineer`; empty when not signed in.
    pub role: String,
    /// The plant is simulated, and faults can be ordered.
    pub demo: bool,
}

/// Name and password.
#[derive(Deserialize, ToSchema)]
pub struct Credentials {
    pub name: String,
    pub password: String,
}

/// A new account.
#[derive(Deserialize, ToSchema)]
pub struct NewAccount {
    pub name: String,
    pub password: String,
    /// `viewer`, `operator` or `engineer`.
    pub role: String,
}

/// The person behind a request; a request without one is refused.
pub struct Person(pub Actor);

impl Person {
    /// Lets through who may do something anywhere in the plant.
    ///
    /// # Errors
    /// A sentence that says which role is needed.
    pub fn may(&self, action: Action) -> Result<&Actor, Problem> {
        self.may_at(action, None)
    }

    /// The same at a place.
    ///
    /// # Errors
    /// A sentence that says which role is needed.
    pub fn may_at(&self, action: Action, place: Option<Uuid>) -> Result<&Actor, Problem> {
        if may(&self.0, action, place) {
            return Ok(&self.0);
        }
        let needs = action.needs().name();
        Err(Problem::new(
            StatusCode::FORBIDDEN,
            format!("This needs the role {needs}; you are signed in as {}.", self.0.role.name()),
        ))
    }
}

impl FromRequest for Person {
    type Error = Problem;
    type Future = Pin<Box<dyn Future<Output = Result<Person, Problem>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let session = request.get_session();
        let app = request.app_data::<Data<App>>().cloned();
        Box::pin(async move {
            let signed_out = || Problem::new(StatusCode::UNAUTHORIZED, "Sign in first.");
            let app = app.ok_or_else(signed_out)?;
            find(&app, &session).await?.map(Person).ok_or_else(signed_out)
        })
    }
}

async fn find(app: &App, session: &Session) -> Result<Option<Actor>, Problem> {
    let Some(id) = session.get::<Uuid>(KEY).ok().flatten() else { return Ok(None) };
    let known = app.people.lock().unwrap_or_else(PoisonError::into_inner).get(&id).cloned();
    if let Some((actor, seen)) = &known
        && seen.elapsed() < FRESH
    {
        return Ok(Some(actor.clone()));
    }
    match app.live.db.account(id).await {
        Ok(found) => {
            let mut people = app.people.lock().unwrap_or_else(PoisonError::into_inner);
            match &found {
                Some(actor) => {
                    if people.len() >= REMEMBERED {
                        people.clear();
                    }
                    people.insert(id, (actor.clone(), Instant::now()));
                }
                None => drop(people.remove(&id)),
            }
            Ok(found)
        }
        // While the database is away whoever was signed in stays so.
        Err(error) => known.map(|(actor, _)| Some(actor)).ok_or_else(|| error.into()),
    }
}

/// Says who is signed in.
#[utoipa::path(responses((status = 200, body = SessionState)))]
#[get("/api/session")]
pub async fn state(app: Data<App>, session: Session) -> Result<Json<SessionState>, Problem> {
    let actor = find(&app, &session).await?;
    let needs_first = actor.is_none() && !app.live.db.has_accounts().await?;
    Ok(Json(told(&app, actor, needs_first)))
}

fn told(app: &App, actor: Option<Actor>, needs_first: bool) -> SessionState {
    let (name, role) = actor.map(|a| (a.name, a.role.name().to_owned())).unwrap_or_default();
    SessionState { signed_in: !name.is_empty(), needs_first, name, role, demo: app.standin.is_some() }
}

/// Signs in.
#[utoipa::path(responses((status = 200, body = SessionState), (status = 401, body = Problem)))]
#[post("/api/session")]
pub async fn sign_in(
    app: Data<App>,
    session: Session,
    request: HttpRequest,
    given: Json<Credentials>,
) -> Result<Json<SessionState>, Problem> {
    if let Some(peer) = request.peer_addr() {
        app.rates.sign_in(peer.ip())?;
    }
    let given = given.into_inner();
    let found = app.live.db.account_named(&given.name).await?;
    let (actor, hash) = found.map_or((None, None), |(actor, hash)| (Some(actor), Some(hash)));
    // A wrong name takes as long as a wrong password, so that names cannot be found out.
    let fits = verify(given.password, hash).await?;
    match actor.filter(|_| fits) {
        Some(actor) => {
            enter(&session, &actor)?;
            app.live.db.note("sign_in", Some(&actor), None, "Signed in", json!({})).await?;
            Ok(Json(told(&app, Some(actor), false)))
        }
        None => Err(Problem { status: 401, ..Problem::field("password", "Name and password do not fit.") }),
    }
}

/// Makes the first account, an engineer, and signs in.
#[utoipa::path(responses((status = 200, body = SessionState), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/api/session/first")]
pub async fn first_account(app: Data<App>, session: Session, given: Json<Credentials>) -> Result<Json<SessionState>, Problem> {
    let given = given.into_inner();
    check(&given.name, &given.password)?;
    if app.live.db.has_accounts().await? {
        return Err(Problem::new(StatusCode::CONFLICT, "There is an account already; sign in."));
    }
    let hash = hash(given.password).await?;
    let actor = app.live.db.first_account(given.name.trim(), &hash).await?;
    let actor = actor.ok_or_else(|| Problem::new(StatusCode::CONFLICT, "There is an account already; sign in."))?;
    enter(&session, &actor)?;
    app.live.db.note("sign_in", Some(&actor), None, "Made the first account", json!({})).await?;
    Ok(Json(told(&app, Some(actor), false)))
}

/// Signs out.
#[utoipa::path(responses((status = 204)))]
#[delete("/api/session")]
pub async fn sign_out(session: Session) -> HttpResponse {
    session.purge();
    HttpResponse::NoContent().finish()
}

/// Adds an account.
#[utoipa::path(responses((status = 204), (status = 422, body = Problem)))]
#[post("/api/accounts")]
pub async fn add_account(app: Data<App>, person: Person, given: Json<NewAccount>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Configure)?;
    let given = given.into_inner();
    check(&given.name, &given.password)?;
    let role = Role::from_name(&given.role).ok_or_else(|| Problem::field("role", "A role is viewer, operator or engineer."))?;
    let hash = hash(given.password).await?;
    let made = app.live.db.add_account(given.name.trim(), role, &hash).await?;
    made.ok_or_else(|| Problem::field("name", "There is already an account of this name."))?;
    let title = format!("Added account “{}” as {}", given.name.trim(), role.name());
    app.live.db.note("configuration", Some(actor), None, &title, json!({})).await?;
    Ok(HttpResponse::NoContent().finish())
}

fn enter(session: &Session, actor: &Actor) -> Result<(), Problem> {
    session.renew();
    session
        .insert(KEY, actor.account)
        .map_err(|_| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "The session could not be kept."))
}

fn check(name: &str, password: &str) -> Result<(), Problem> {
    if name.trim().is_empty() || name.chars().count() > 80 {
        return Err(Problem::field("name", "A name has 1 to 80 characters."));
    }
    if password.chars().count() < 8 || password.len() > 1000 {
        return Err(Problem::field("password", "A password has at least 8 characters."));
    }
    Ok(())
}

/// Hashing takes a good part of a core's second, so it must not hold up other requests.
async fn hash(password: String) -> Result<String, Problem> {
    let hashed =
        tokio::task::spawn_blocking(move || Argon2::default().hash_password(password.as_bytes()).map(|h| h.to_string())).await;
    hashed
        .ok()
        .and_then(Result::ok)
        .ok_or_else(|| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "The password could not be kept."))
}

async fn verify(password: String, hash: Option<String>) -> Result<bool, Problem> {
    /// Of a password nobody has.
    const NOBODY: &str = "$argon2id$v=19$m=19456,t=2,p=1$c29tZSBzYWx0IHRoYXQ$4Rq7cTqC1Y0d0e5Hn1qZlQ6z1Y8g8q1w0Q1b8Zb5r9E";
    let checked = tokio::task::spawn_blocking(move || {
        let known = hash.is_some();
        let hash = hash.unwrap_or_else(|| NOBODY.to_owned());
        let parsed = PasswordHash::new(&hash);
        known & parsed.is_ok_and(|h| Argon2::default().verify_password(password.as_bytes(), &h).is_ok())
    });
    checked.await.map_err(|_| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "The password could not be checked."))
}
