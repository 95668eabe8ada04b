//! Signing in and out, the first account, and who is behind a request.

use crate::{
    app::App,
    body::Json,
    guard,
    past::Then,
    problem::Problem,
    sessions::{self, Session},
};
use actix_web::{
    FromRequest, HttpRequest, HttpResponse, delete, dev::Payload, get, http::StatusCode, http::header, post, web::Data,
};
use argon2::{Argon2, PasswordHasher, PasswordVerifier, password_hash::phc::PasswordHash};
use havrel_core::{
    access::{Action, Actor, Scope, may},
    plant::Plant,
    text,
};
use havrel_db::people::Unchanged;
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::{collections::HashSet, future::Future, pin::Pin, sync::Arc};
use utoipa::ToSchema;
use uuid::Uuid;

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

/// Name and password of the first account, and the one-time code that the start command printed.
#[derive(Deserialize, ToSchema)]
pub struct FirstAccount {
    pub name: String,
    pub password: String,
    pub code: String,
}

/// The person behind a request; a request without one is refused.
pub struct Person {
    pub actor: Actor,
    pub session: Uuid,
    pub scope: Scope,
    /// The instant that the request is about, where somebody looks back.
    pub then: Option<Then>,
}

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
        if !may(&self.actor, action, place) {
            let needs = action.needs().name();
            return Err(Problem::new(
                StatusCode::FORBIDDEN,
                format!("This needs the role {needs}; you are signed in as {}.", self.actor.role.name()),
            ));
        }
        if self.then.is_some() && action != Action::See {
            let words = "You are looking back, where nothing can be changed. Return to now first.";
            return Err(Problem::new(StatusCode::CONFLICT, words));
        }
        // The configuration hangs together across the plant.
        if action == Action::Configure {
            self.of_everything()?;
        }
        Ok(&self.actor)
    }

    /// Lets through who sees the whole plant, for what cannot be told of a part of it.
    ///
    /// # Errors
    /// A sentence that says so.
    pub fn of_everything(&self) -> Result<(), Problem> {
        let words = "This concerns the whole plant; your account sees only a part of it.";
        if self.scope.is_everything() { Ok(()) } else { Err(Problem::new(StatusCode::FORBIDDEN, words)) }
    }

    /// The plant as this person sees it, or saw it then.
    pub fn plant(&self, app: &App) -> Arc<Plant> {
        match &self.then {
            None => app.seen(&self.scope),
            Some(then) if self.scope.is_everything() => then.plant.clone(),
            Some(then) => Arc::new(then.plant.seen(&self.scope)),
        }
    }

    /// Lets through who does not look back, for what is only known of now.
    ///
    /// # Errors
    /// A sentence that says so.
    pub fn of_now(&self) -> Result<(), Problem> {
        let words = "This is only known of now. Return to now first.";
        if self.then.is_none() { Ok(()) } else { Err(Problem::new(StatusCode::CONFLICT, words)) }
    }

    /// Of these numbers of tags those that this person sees.
    pub fn heard(&self, app: &App, numbers: Vec<u32>) -> Vec<u32> {
        if self.scope.is_everything() {
            return numbers;
        }
        let seen: HashSet<u32> = self.plant(app).tags.values().map(|t| t.no).collect();
        numbers.into_iter().filter(|no| seen.contains(no)).collect()
    }

    /// Whether this person may hear of an alarm; of one whose rule is gone, and of Havrel's own, only who sees everything.
    pub fn hears_of(&self, plant: &Plant, rule: Uuid) -> bool {
        self.scope.is_everything() || plant.rules.contains_key(&rule)
    }
}

impl FromRequest for Person {
    type Error = Problem;
    type Future = Pin<Box<dyn Future<Output = Result<Person, Problem>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let shown = sessions::shown(request);
        let headers = request.headers().clone();
        let app = request.app_data::<Data<App>>().cloned();
        Box::pin(async move {
            let signed_out = || Problem::new(StatusCode::UNAUTHORIZED, "Sign in first.");
            let (app, shown) = app.zip(shown).ok_or_else(signed_out)?;
            let found = app.sessions.find(&app.live, &shown).await?;
            let Session { id: session, actor } = found.ok_or_else(signed_out)?;
            let (scope, then) = (app.scope_of(&actor), Then::of(&app, &headers).await?);
            Ok(Person { actor, session, scope, then })
        })
    }
}

/// Says who is signed in.
#[utoipa::path(responses((status = 200, body = SessionState)))]
#[get("/api/session")]
pub async fn state(app: Data<App>, request: HttpRequest) -> Result<Json<SessionState>, Problem> {
    let found = match sessions::shown(&request) {
        Some(shown) => app.sessions.find(&app.live, &shown).await?,
        None => None,
    };
    let needs_first = found.is_none() && !app.live.db.has_accounts().await?;
    Ok(Json(told(&app, found.map(|s| s.actor), needs_first)))
}

fn told(app: &App, actor: Option<Actor>, needs_first: bool) -> SessionState {
    let (name, role) = actor.map(|a| (a.name, a.role.name().to_owned())).unwrap_or_default();
    SessionState { signed_in: !name.is_empty(), needs_first, name, role, demo: app.standin.is_some() }
}

/// Signs in.
#[utoipa::path(responses((status = 200, body = SessionState), (status = 401, body = Problem)))]
#[post("/api/session")]
pub async fn sign_in(app: Data<App>, request: HttpRequest, given: Json<Credentials>) -> Result<HttpResponse, Problem> {
    let address = guard::address_of(&app, request.peer_addr(), request.headers());
    let given = given.into_inner();
    if given.name.len() > 1000 || given.password.len() > 1000 {
        return Err(Problem { status: 401, ..Problem::field("password", "The name or the password is wrong.") });
    }
    app.limits.sign_in(address, &given.name)?;
    let found = app.live.db.account_named(given.name.trim()).await?;
    let (actor, hash) = found.map_or((None, None), |(actor, hash)| (Some(actor), Some(hash)));
    // A wrong name takes as long as a wrong password, so that names cannot be found out.
    let fits = verify(&app, given.password, hash).await?;
    let right = actor.filter(|_| fits);
    app.limits.signed_in(&given.name, right.is_some());
    match right {
        Some(actor) => {
            // Not waited for: whoever has to mend a full disk must get in while nothing can be written to it.
            app.live.remark("sign_in", Some(&actor), None, "Signed in", json!({"address": address.to_string()})).await;
            enter(&app, &request, actor).await
        }
        None => {
            tracing::warn!(name = given.name, %address, "a sign-in failed");
            let title = format!("Sign-in as “{}” failed", given.name.chars().take(80).collect::<String>());
            app.live.remark("sign_in", None, None, &title, json!({"address": address.to_string()})).await;
            Err(Problem { status: 401, ..Problem::field("password", "The name or the password is wrong.") })
        }
    }
}

/// Creates the first account, an engineer, for whoever has the one-time code, and signs in.
#[utoipa::path(responses((status = 200, body = SessionState), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/api/session/first")]
pub async fn first_account(app: Data<App>, request: HttpRequest, given: Json<FirstAccount>) -> Result<HttpResponse, Problem> {
    let address = guard::address_of(&app, request.peer_addr(), request.headers());
    let given = given.into_inner();
    check(&given.name, &given.password)?;
    app.limits.sign_in(address, "")?;
    let there = || Problem::new(StatusCode::CONFLICT, "There is an account already; sign in.");
    if app.live.db.has_accounts().await? {
        return Err(there());
    }
    let hash = hash(&app, given.password).await?;
    let code = sessions::hash(given.code.trim());
    let actor = match app.live.db.first_account(given.name.trim(), &hash, &code).await? {
        Ok(actor) => actor,
        Err(Unchanged::WrongCode) => {
            let words =
                "The code is wrong. The start command prints an address that carries it; “havrel account code” makes a new one.";
            return Err(Problem::field("code", words));
        }
        Err(_) => return Err(there()),
    };
    app.live.note("sign_in", Some(&actor), None, "Created the first account", json!({"address": address.to_string()})).await?;
    enter(&app, &request, actor).await
}

/// Signs out: the session ends.
#[utoipa::path(responses((status = 204)))]
#[delete("/api/session")]
pub async fn sign_out(app: Data<App>, request: HttpRequest) -> Result<HttpResponse, Problem> {
    if let Some(shown) = sessions::shown(&request)
        && let Some(session) = app.sessions.find(&app.live, &shown).await?
    {
        app.live.db.end_sessions(session.actor.account, Some(session.id)).await?;
        app.sessions.forget(session.actor.account, Some(session.id), None);
    }
    Ok(HttpResponse::NoContent().cookie(sessions::no_cookie()).finish())
}

/// Begins a session and answers with it.
async fn enter(app: &App, request: &HttpRequest, actor: Actor) -> Result<HttpResponse, Problem> {
    let address = guard::address_of(app, request.peer_addr(), request.headers()).to_string();
    let browser = request.headers().get(header::USER_AGENT).and_then(|h| h.to_str().ok()).unwrap_or_default();
    let browser: String = text::shown(browser).chars().take(200).collect();
    let secret = app.sessions.begin(&app.live, &actor, &address, &browser).await?;
    let cookie = sessions::cookie(secret, app.sessions.limits, guard::over_tls(app, request.peer_addr(), request.headers()));
    Ok(HttpResponse::Ok().cookie(cookie).json(told(app, Some(actor), false)))
}

/// Whether a name and a password will do.
///
/// # Errors
/// The field and what is wrong with it.
pub fn check(name: &str, password: &str) -> Result<(), Problem> {
    if !text::is_visible(name) || name.trim().chars().count() > 80 {
        return Err(Problem::field("name", "A name has 1 to 80 characters."));
    }
    check_password(password)
}

/// Whether a password will do.
///
/// # Errors
/// What is wrong with it.
pub fn check_password(password: &str) -> Result<(), Problem> {
    if password.chars().count() < 8 {
        return Err(Problem::field("password", "A password has at least 8 characters."));
    }
    if password.len() > 1000 {
        return Err(Problem::field("password", "A password has at most 1,000 bytes."));
    }
    Ok(())
}

/// Hashes a password. It takes a good part of a core's second, so it must neither hold up other requests nor come in crowds.
///
/// # Errors
/// When many wait already.
pub async fn hash(app: &App, password: String) -> Result<String, Problem> {
    let _turn = app.limits.hashing().await?;
    let hashed = tokio::task::spawn_blocking(move || hash_now(&password)).await;
    hashed.ok().flatten().ok_or_else(|| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "The password could not be kept."))
}

/// Hashes a password here and now.
pub fn hash_now(password: &str) -> Option<String> {
    Argon2::default().hash_password(password.as_bytes()).ok().map(|h| h.to_string())
}

/// Whether a password is the one with this hash.
///
/// # Errors
/// When many wait already.
pub async fn verify(app: &App, password: String, hash: Option<String>) -> Result<bool, Problem> {
    /// Of a password nobody has.
    const NOBODY: &str = "$argon2id$v=19$m=19456,t=2,p=1$c29tZSBzYWx0IHRoYXQ$4Rq7cTqC1Y0d0e5Hn1qZlQ6z1Y8g8q1w0Q1b8Zb5r9E";
    let _turn = app.limits.hashing().await?;
    let checked = tokio::task::spawn_blocking(move || {
        let known = hash.is_some();
        let hash = hash.unwrap_or_else(|| NOBODY.to_owned());
        let parsed = PasswordHash::new(&hash);
        known & parsed.is_ok_and(|h| Argon2::default().verify_password(password.as_bytes(), &h).is_ok())
    });
    checked.await.map_err(|_| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "The password could not be checked."))
}
