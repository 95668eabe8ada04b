//! The page that a link in a message opens, made for a phone: what is wrong, what to do, how the value went, and two buttons. It needs
//! no sign-in: the link is signed and stands for whoever was told. Opening it does nothing, as mail servers follow links, too.

use crate::{api::calls, app::App, problem::Problem};
use actix_web::{
    HttpResponse,
    http::{StatusCode, header},
    web::{Data, Form, Path},
};
use havrel_core::{
    access::{Action, Actor, may},
    alarm::AlarmAction,
    call_out::message::{Message, in_order},
    plant::{Item, Plant, Tag},
    report::{Curve, Named},
    time::{Nanos, SECOND, to_local},
};
use havrel_db::calls::{CallRow, Contact};
use havrel_jobs::{gather, picture};
use maud::{DOCTYPE, Markup, PreEscaped, html};
use serde::Deserialize;
use std::sync::PoisonError;
use uuid::Uuid;

/// So many alarms the page shows, and of so many how the value went.
const MOST_SHOWN: usize = 20;
const MOST_DRAWN: usize = 3;
/// For so long back.
const DRAWN: Nanos = 3600 * SECOND;
const WIDTH: usize = 320;
/// A link of a call that was over so long ago shows nothing any more.
const SHOWN_FOR: Nanos = 7 * 86_400 * SECOND;

const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'";

const STYLE: &str = "body{font:17px/1.45 system-ui,sans-serif;color:#17232d;background:#fdfcf8;max-width:34rem;margin:0 auto;padding:1rem}
h1{font-size:1.25rem;margin:0 0 .25rem}h2{font-size:1.05rem;margin:0}.soft{color:#55616b;font-size:.9rem}
article{border:1px solid #b9b29d;border-radius:6px;padding:.75rem;margin:.75rem 0;background:#fff}p{margin:.35rem 0}
.test{border:2px dashed #3d5a9e;padding:.5rem .75rem;border-radius:6px;font-weight:700}
button{font:inherit;font-weight:700;width:100%;padding:.9rem;margin:.4rem 0;border-radius:6px;border:1px solid #0e6a6a;background:#0e6a6a;color:#fff}
button.second{background:#fff;color:#0e6a6a}label{display:block;margin:.5rem 0 .2rem}input{font:inherit;width:100%;box-sizing:border-box;padding:.6rem;border:1px solid #6c7680;border-radius:6px;background:#fff;color:#17232d}
figure{margin:.5rem 0 0}svg{display:block;width:100%}.told{font-weight:700;padding:.75rem;border-radius:6px;background:#e6efe9;color:#17402c}
@media(prefers-color-scheme:dark){body{background:#101820;color:#e8e4d8}article{background:#18222c;border-color:#3c4a57}.soft{color:#a9b4bd}input{background:#101820;color:#e8e4d8}.told{background:#173226;color:#cfe8da}figure{background:#fdfcf8;color:#17232d;border-radius:4px;padding:.25rem}figure .soft{color:#55616b}button.second{background:#18222c;color:#7cc4c4}.test{border-color:#8fa9e6}}";

/// What is known behind a link.
struct Behind {
    message: Message,
    row: CallRow,
    /// Whoever was told, where they have an account.
    contact: Option<Contact>,
}

impl Behind {
    async fn of(app: &App, token: &str) -> Result<Behind, Problem> {
        let unknown = || {
            Problem::new(
                StatusCode::NOT_FOUND,
                "This link leads nowhere: it is incomplete, or was not made by this installation.",
            )
        };
        let id = app.live.message_of_link(token).ok_or_else(unknown)?;
        let message = app.live.db.message(id).await?.ok_or_else(unknown)?;
        let row = app.live.db.call(message.call).await?.ok_or_else(unknown)?;
        if row.call.over.as_ref().is_some_and(|over| havrel_live::now() - over.at > SHOWN_FOR) {
            return Err(Problem::new(
                StatusCode::GONE,
                "This call was over more than a week ago. Sign in to Havrel to read about it.",
            ));
        }
        let contact = match message.account {
            Some(account) => app.live.db.contacts().await?.into_iter().find(|contact| contact.account == account),
            None => None,
        };
        if message.account.is_some() && contact.as_ref().is_none_or(|contact| contact.disabled) {
            return Err(Problem::new(StatusCode::FORBIDDEN, "The account that was told of this is disabled."));
        }
        Ok(Behind { message, row, contact })
    }

    /// The account that may acknowledge alarms, if whoever was told has one.
    fn actor(&self) -> Option<Actor> {
        let contact = self.contact.as_ref()?;
        let actor = Actor { account: contact.account, name: contact.name.clone(), role: contact.role };
        may(&actor, Action::Acknowledge, None).then_some(actor)
    }
}

/// Shows the call behind a link.
pub async fn show(app: Data<App>, token: Path<String>) -> HttpResponse {
    answer(page(&app, &token, None).await)
}

/// What somebody says.
#[derive(Deserialize)]
pub struct Said {
    #[serde(default)]
    comment: String,
}

/// Takes the call behind a link, or acknowledges its alarms.
pub async fn act(app: Data<App>, path: Path<(String, String)>, said: Form<Said>) -> HttpResponse {
    let (token, act) = path.into_inner();
    answer(done(&app, &token, &act, &said.comment).await)
}

async fn done(app: &App, token: &str, act: &str, comment: &str) -> Result<Markup, Problem> {
    let behind = Behind::of(app, token).await?;
    if comment.len() > 4000 {
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "A comment has at most 4,000 bytes. Go back and shorten it."));
    }
    let actor = behind.actor();
    let told = match act {
        "take" => {
            let taken = app.live.take_call(behind.row.call.id, &behind.message.whom, comment, actor.as_ref()).await;
            match taken {
                Ok(()) => "You take care of it. Nobody else is told.".to_owned(),
                Err(why) => calls::not_taken(&why).detail,
            }
        }
        "acknowledge" => {
            let Some(actor) = actor else {
                return Err(Problem::new(
                    StatusCode::FORBIDDEN,
                    "Only somebody with an account that may acknowledge alarms can do this.",
                ));
            };
            let rules: Vec<Uuid> = behind.row.call.waiting().map(|(rule, _)| rule).collect();
            let count = app.live.act_on_alarms(rules, AlarmAction::Acknowledge, &actor, comment.to_owned()).await?;
            if count > 0 {
                let title = format!("Acknowledged {count} alarms by the link of a call-out");
                app.live
                    .remark(
                        "acknowledge",
                        Some(&actor),
                        Some(behind.row.call.id),
                        &title,
                        serde_json::json!({"comment": comment}),
                    )
                    .await;
            }
            match count {
                0 => "Nothing waits any more.".to_owned(),
                1 => "Acknowledged.".to_owned(),
                _ => format!("{count} alarms acknowledged."),
            }
        }
        _ => return Err(Problem::missing("page")),
    };
    page(app, token, Some(&told)).await
}

async fn page(app: &App, token: &str, told: Option<&str>) -> Result<Markup, Problem> {
    let behind = Behind::of(app, token).await?;
    let plant = app.live.plant();
    let call = &behind.row.call;
    let now = havrel_live::now();
    let zone = plant.call_plans.get(&call.plan).map_or_else(|| "UTC".to_owned(), |plan| plan.set.hours.zone.clone());
    let state = match call.over.as_ref().map(|over| calls::how(&over.how)) {
        None => "Nobody has taken this call yet.".to_owned(),
        Some(("taken", by)) => format!("{by} takes care of it."),
        Some(("acknowledged", _)) => "This call is over: no alarm waits any more.".to_owned(),
        Some(("unanswered", _)) => "Everybody was told, and nobody took this call.".to_owned(),
        Some(_) => "This call is over: its plan was deleted or switched off.".to_owned(),
    };
    let waiting = in_order(call);
    let mut shown = Vec::new();
    for (n, (rule, alarm)) in waiting.iter().take(MOST_SHOWN).enumerate() {
        let item = plant.rules.get(rule);
        let tag = item.and_then(|item| plant.tags.get(&item.set.tag));
        let drawn = match tag {
            Some(tag) if n < MOST_DRAWN && plant.is_recorded(tag) => curve(app, &plant, tag, now).await?,
            _ => None,
        };
        shown.push(html! {
            article {
                h2 { (alarm.text) }
                p.soft {
                    @if let Some(tag) = tag { (plant.path(Some(tag.set.place))) ". " }
                    "Priority " (alarm.priority) ", since " (to_local(alarm.raised_at, &zone))
                }
                @if let Some(tag) = tag {
                    p { (tag.set.name) " now: " b { (newest(app, &plant, tag)) } }
                }
                @if let Some(item) = item {
                    @if !item.set.action.is_empty() { p { b { "What to do: " } (item.set.action) } }
                    @if !item.set.cause.is_empty() { p { b { "Cause: " } (item.set.cause) } }
                    @if !item.set.if_ignored.is_empty() { p { b { "If nobody acts: " } (item.set.if_ignored) } }
                }
                @if let Some(curve) = drawn { (picture::strips(&[curve], now - DRAWN, now, &zone)) }
            }
        });
    }
    let title = if call.test { "Test of the call-out" } else { "Call-out" };
    Ok(html! {
        h1 { (title) " “" (behind.row.plan_name) "”" }
        p.soft { "For " (behind.message.whom) ", " (to_local(now, &zone)) }
        @if let Some(told) = told { p.told role="status" { (told) } }
        @if call.test { p.test { "This is a test. Nothing is wrong at the plant." } }
        p { (state) }
        @if waiting.is_empty() { p { "None of its alarms waits to be acknowledged." } }
        @if let Some(first) = shown.first() { (first) }
        @let may_acknowledge = behind.actor().is_some() && !waiting.is_empty();
        @if call.over.is_none() || may_acknowledge {
            form method="post" action=(format!("/call/{token}/take")) {
                label for="comment" { "Comment" }
                input id="comment" name="comment" maxlength="1000" autocomplete="off";
                @if call.over.is_none() { button type="submit" { "I take care of it" } }
                @if may_acknowledge {
                    button.second type="submit" formaction=(format!("/call/{token}/acknowledge")) {
                        @if waiting.len() == 1 { "Acknowledge the alarm" } @else { "Acknowledge all " (waiting.len()) " alarms" }
                    }
                }
            }
        }
        // What else is wrong, below what can be done.
        @for alarm in shown.iter().skip(1) { (alarm) }
        @if waiting.len() > MOST_SHOWN { p.soft { "… and " (waiting.len() - MOST_SHOWN) " more." } }
    })
}

/// What a tag holds now, as people read it.
fn newest(app: &App, plant: &Plant, tag: &Item<Tag>) -> String {
    let values = app.live.values.read().unwrap_or_else(PoisonError::into_inner);
    let Some(current) = values.of(tag.no).map(|shown| &shown.current) else { return "no value".into() };
    let value = current.value.as_ref().map_or_else(|| "no value".to_owned(), |value| plant.print(&tag.set, value));
    let doubt = if current.quality.is_bad() { ", which is bad" } else { "" };
    format!("{value} {}{doubt}", tag.set.unit).replace("  ", " ").trim().to_owned()
}

/// How the value went.
async fn curve(app: &App, plant: &Plant, tag: &Item<Tag>, now: Nanos) -> Result<Option<Curve>, Problem> {
    let named = Named { path: String::new(), name: tag.set.name.clone(), unit: tag.set.unit.clone(), decimals: tag.set.decimals };
    Ok(gather::curves_of(&app.live.db, plant, &[(tag.id, named)], (now - DRAWN, now), WIDTH).await?.pop())
}

fn answer(made: Result<Markup, Problem>) -> HttpResponse {
    let (status, content) = match made {
        Ok(content) => (StatusCode::OK, content),
        Err(problem) => {
            let status = StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
            (status, html! { h1 { "Call-out" } p { (problem.detail) } })
        }
    };
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="robots" content="noindex";
                title { "Havrel call-out" }
                style { (PreEscaped(STYLE)) }
            }
            body { main { (content) } }
        }
    };
    HttpResponse::build(status)
        .content_type("text/html; charset=utf-8")
        .insert_header((header::CACHE_CONTROL, "no-store"))
        .insert_header((header::CONTENT_SECURITY_POLICY, POLICY))
        .body(page.into_string())
}
