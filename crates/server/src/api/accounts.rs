//! Accounts and their sessions, for engineers; one's own password, for everybody.

use crate::{
    app::App,
    auth::{self, Person, check, check_password},
    body::Json,
    guard,
    problem::Problem,
};
use actix_web::{
    HttpRequest, HttpResponse, delete, get,
    http::StatusCode,
    patch, post,
    web::{Data, Path},
};
use havrel_core::{
    access::{Action, Role},
    time::to_text,
};
use havrel_db::people::{Account, AccountChange, Unchanged};
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;
use uuid::Uuid;

/// An account.
#[derive(Serialize, ToSchema)]
pub struct AccountView {
    pub id: Uuid,
    pub name: String,
    /// `viewer`, `operator` or `engineer`.
    pub role: String,
    /// Nobody can sign in with it.
    pub disabled: bool,
    pub made_at: String,
    /// When it was used last, to the minute; empty if no session remains.
    pub seen_at: String,
    /// Sessions that have not ended.
    pub sessions: i64,
    /// Whoever asks is signed in with it.
    pub own: bool,
}

/// Lists the accounts, by name.
#[utoipa::path(responses((status = 200, body = Vec<AccountView>)))]
#[get("/api/accounts")]
pub async fn accounts(app: Data<App>, person: Person) -> Result<Json<Vec<AccountView>>, Problem> {
    let actor = person.may(Action::Configure)?;
    let view = |a: Account| AccountView {
        own: a.id == actor.account,
        id: a.id,
        name: a.name,
        role: a.role.name().into(),
        disabled: a.disabled,
        made_at: to_text(a.made_at),
        seen_at: a.seen_at.map(to_text).unwrap_or_default(),
        sessions: a.sessions,
    };
    Ok(Json(app.live.db.accounts().await?.into_iter().map(view).collect()))
}

/// A new account.
#[derive(Deserialize, ToSchema)]
pub struct NewAccount {
    pub name: String,
    pub password: String,
    /// `viewer`, `operator` or `engineer`.
    pub role: String,
}

fn role_of(name: &str) -> Result<Role, Problem> {
    Role::from_name(name).ok_or_else(|| Problem::field("role", "A role is viewer, operator or engineer."))
}

/// Adds an account.
#[utoipa::path(responses((status = 204), (status = 422, body = Problem)))]
#[post("/api/accounts")]
pub async fn add_account(app: Data<App>, person: Person, given: Json<NewAccount>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Configure)?;
    let given = given.into_inner();
    check(&given.name, &given.password)?;
    let (name, role) = (given.name.trim(), role_of(&given.role)?);
    let hash = auth::hash(&app, given.password).await?;
    let made = app.live.db.add_account(name, role, &hash).await?;
    let made = made.ok_or_else(|| Problem::field("name", "There is already an account of this name."))?;
    let title = format!("Added account “{name}” as {}", role.name());
    app.live.note("account", Some(actor), Some(made.account), &title, json!({})).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// What changes of an account; what is left out stays.
#[derive(Deserialize, ToSchema)]
pub struct AccountPatch {
    /// `viewer`, `operator` or `engineer`.
    #[serde(default)]
    pub role: Option<String>,
    #[serde(default)]
    pub disabled: Option<bool>,
    /// A new password; whoever used the old one is signed out.
    #[serde(default)]
    pub password: Option<String>,
}

/// Changes an account: role, disabled or not, a new password.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[patch("/api/accounts/{id}")]
pub async fn change_account(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    given: Json<AccountPatch>,
) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Configure)?;
    let given = given.into_inner();
    let role = given.role.as_deref().map(role_of).transpose()?;
    let own = (*id == actor.account).then_some(person.session);
    let mut change = AccountChange { role, disabled: given.disabled, password: None, stays: own };
    if let Some(password) = given.password {
        check_password(&password)?;
        change.password = Some(auth::hash(&app, password).await?);
    }
    let name = changed(app.live.db.change_account(*id, &change).await?)?;
    // What was remembered of it counts no more, whatever changed.
    app.sessions.forget(*id, None, None);
    let mut done = Vec::new();
    done.extend(role.map(|r| format!("role {}", r.name())));
    done.extend(change.disabled.map(|off| if off { "disabled" } else { "enabled" }.to_owned()));
    done.extend(change.password.as_ref().map(|_| "new password".to_owned()));
    let title = format!("Changed account “{name}”: {}", done.join(", "));
    app.live.note("account", Some(actor), Some(*id), &title, json!({})).await?;
    Ok(HttpResponse::NoContent().finish())
}

fn changed(result: Result<String, Unchanged>) -> Result<String, Problem> {
    result.map_err(|why| match why {
        Unchanged::LastEngineer => Problem::new(StatusCode::CONFLICT, "This is the last engineer; make somebody else one first."),
        _ => Problem::missing("account"),
    })
}

/// One's own password, old and new.
#[derive(Deserialize, ToSchema)]
pub struct OwnPassword {
    pub current: String,
    pub password: String,
}

/// Changes one's own password. Other browsers that are signed in with it are signed out.
#[utoipa::path(responses((status = 204), (status = 422, body = Problem), (status = 429, body = Problem)))]
#[post("/api/session/password")]
pub async fn own_password(
    app: Data<App>,
    person: Person,
    request: HttpRequest,
    given: Json<OwnPassword>,
) -> Result<HttpResponse, Problem> {
    let given = given.into_inner();
    let actor = &person.actor;
    check_password(&given.password)?;
    // As when signing in: somebody who found a browser open must not find out the password either.
    app.limits.sign_in(guard::address_of(&app, request.peer_addr(), request.headers()), &actor.name)?;
    let stored = app.live.db.account_named(&actor.name).await?.map(|(_, hash)| hash);
    let right = auth::verify(&app, given.current, stored).await?;
    app.limits.signed_in(&actor.name, right);
    if !right {
        return Err(Problem::field("current", "This is not your password."));
    }
    let password = Some(auth::hash(&app, given.password).await?);
    let change = AccountChange { password, stays: Some(person.session), ..AccountChange::default() };
    changed(app.live.db.change_account(actor.account, &change).await?)?;
    app.sessions.forget(actor.account, None, Some(person.session));
    app.live.note("account", Some(actor), Some(actor.account), "Changed their own password", json!({})).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Somebody signed in on one browser.
#[derive(Serialize, ToSchema)]
pub struct SessionView {
    pub id: Uuid,
    pub made_at: String,
    pub seen_at: String,
    pub address: String,
    /// What the browser calls itself.
    pub browser: String,
    /// Whoever asks uses it now.
    pub own: bool,
}

/// Lists the sessions of an account.
#[utoipa::path(responses((status = 200, body = Vec<SessionView>)))]
#[get("/api/accounts/{id}/sessions")]
pub async fn sessions(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<Vec<SessionView>>, Problem> {
    if *id != person.actor.account {
        person.may(Action::Configure)?;
    }
    let own = person.session;
    let all = app.live.db.sessions(*id).await?.into_iter().map(|s| SessionView {
        own: s.id == own,
        id: s.id,
        made_at: to_text(s.made_at),
        seen_at: to_text(s.seen_at),
        address: s.address,
        browser: s.browser,
    });
    Ok(Json(all.collect()))
}

/// How many sessions ended.
#[derive(Serialize, ToSchema)]
pub struct Ended {
    pub count: u64,
}

/// Ends all sessions of an account; open pages are told at once.
#[utoipa::path(responses((status = 200, body = Ended)))]
#[delete("/api/accounts/{id}/sessions")]
pub async fn end_sessions(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<Ended>, Problem> {
    end(&app, &person, *id, None).await
}

/// Ends one session; open pages are told at once.
#[utoipa::path(responses((status = 200, body = Ended)))]
#[delete("/api/accounts/{id}/sessions/{session}")]
pub async fn end_session(app: Data<App>, person: Person, path: Path<(Uuid, Uuid)>) -> Result<Json<Ended>, Problem> {
    let (account, session) = path.into_inner();
    end(&app, &person, account, Some(session)).await
}

async fn end(app: &App, person: &Person, account: Uuid, only: Option<Uuid>) -> Result<Json<Ended>, Problem> {
    if account != person.actor.account {
        person.may(Action::Configure)?;
    }
    let count = app.live.db.end_sessions(account, only).await?;
    app.sessions.forget(account, only, None);
    let title = if only.is_some() { "Ended a session".to_owned() } else { format!("Ended all sessions of an account ({count})") };
    app.live.note("account", Some(&person.actor), Some(account), &title, json!({})).await?;
    Ok(Json(Ended { count }))
}
