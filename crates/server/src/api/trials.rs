//! Alarm rules on trial: on made-up values, and against what is recorded. Neither touches history, devices or people.

use super::{alarms::KeptValueView, classes::refused, period};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    error::BlockingError,
    http::StatusCode,
    post,
    web::{Data, block},
};
use havrel_core::{
    TagNo,
    access::Action,
    alarm::{AlarmEvent, EventKind},
    engine::Current,
    plant::{Edit, Item, Kind, Op, Own, Plant, RecordMode, Rule, Tag, edit},
    time::{Nanos, SECOND, to_text},
    trial::{
        Trial,
        calmer::calmer,
        judged::Judged,
        shape::{self, LONGEST_S, MOST_VALUES, MadeUp},
    },
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{HashMap, HashSet},
    sync::{Arc, PoisonError},
    time::{Duration, Instant},
};
use utoipa::ToSchema;
use uuid::Uuid;

/// The longest period that is gone through.
const LONGEST: Nanos = 31 * 86_400 * SECOND;
/// For how long settings that would calm a rule are looked for.
const PATIENCE: Duration = Duration::from_secs(10);
/// Most alarms of a backtest that are listed.
const MOST_LISTED: usize = 5_000;
/// Most events of a trial that are listed.
const MOST_EVENTS: usize = 2_000;

/// No thread is left to work it out.
fn stopping(_: BlockingError) -> Problem {
    Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.")
}

/// Settings of an alarm rule as they are typed.
fn rule_of(plant: &Plant, tag: Uuid, rule: Option<Uuid>, mut set: Own) -> Result<Rule, Problem> {
    let named = set.get("name").and_then(|name| name.as_str()).unwrap_or_default().to_owned();
    let (id, op) = match rule {
        Some(id) => {
            let known = plant.rules.get(&id).filter(|rule| rule.set.tag == tag);
            known.ok_or_else(|| Problem::missing("alarm rule"))?;
            (id, Op::Patch(set))
        }
        None => {
            set.insert("tag".into(), tag.to_string().into());
            // Another rule of the tag may be called the same; whoever saves it is told.
            set.insert("name".into(), format!("trial {}", Uuid::now_v7().simple()).into());
            (Uuid::now_v7(), Op::Create(set, None))
        }
    };
    let edit = Edit { kind: Kind::Rule, id, op, seen: None };
    let (next, _) = edit::apply(plant, &[edit], &(), || 0).map_err(refused)?;
    let mut settled = next.rules.get(&id).map(|rule| rule.set.clone()).ok_or_else(|| Problem::missing("alarm rule"))?;
    if rule.is_none() {
        settled.name = named;
    }
    let rule = settled;
    if next.judged_tags(&rule).len() < 1 + next.rule_reads(&rule).iter().filter(|read| **read != tag).count() {
        return Err(Problem::field("set", "Its formulas read tags that you do not see."));
    }
    Ok(rule)
}

/// Made-up values of one tag.
#[derive(Deserialize, ToSchema)]
pub struct MadeUpBody {
    pub tag: Uuid,
    /// `hold`, `ramp`, `step`, `noise` or `points`, with its numbers; `bad` from when to when, in seconds.
    #[serde(flatten)]
    #[schema(value_type = Object)]
    pub made: MadeUp,
}

/// A rule to try on made-up values.
#[derive(Deserialize, ToSchema)]
pub struct TrialBody {
    pub tag: Uuid,
    /// The rule, where it is there already; `set` changes it.
    pub rule: Option<Uuid>,
    #[schema(value_type = Object)]
    pub set: Own,
    /// For how long, and how far apart the values are.
    pub seconds: f64,
    pub every_s: f64,
    /// Values of its tag and of what its formulas read; what is not named here has none.
    pub made_up: Vec<MadeUpBody>,
}

/// Something that happened in a trial.
#[derive(Serialize, ToSchema)]
pub struct TrialEvent {
    /// Seconds from the beginning.
    pub at_s: f64,
    #[schema(value_type = String)]
    pub kind: EventKind,
    pub text: String,
    /// The reason, where it was suppressed.
    pub comment: String,
    /// The operator would not have seen it.
    pub suppressed: bool,
    /// What would go with it.
    pub values: Vec<KeptValueView>,
}

/// The values of a tag in a trial.
#[derive(Serialize, ToSchema)]
pub struct TrialColumn {
    pub tag: Uuid,
    pub title: String,
    /// One for each instant; null where the quality was bad.
    pub values: Vec<Option<f64>>,
}

/// What came of a trial.
#[derive(Serialize, ToSchema)]
pub struct TrialView {
    pub seconds: f64,
    pub every_s: f64,
    pub columns: Vec<TrialColumn>,
    pub events: Vec<TrialEvent>,
    /// When an operator would have seen the alarm stand, in seconds; null: until the end.
    pub spans: Vec<(f64, Option<f64>)>,
}

/// Tries an alarm rule on made-up values.
#[utoipa::path(request_body = TrialBody, responses((status = 200, body = TrialView), (status = 422, body = Problem)))]
#[post("/api/rules/trial")]
pub async fn trial(app: Data<App>, person: Person, body: Json<TrialBody>) -> Result<Json<TrialView>, Problem> {
    person.may(Action::See)?;
    let body = body.into_inner();
    let plant = person.plant(&app);
    if !(body.seconds > 0.0 && body.seconds <= LONGEST_S) {
        return Err(Problem::field("seconds", "A trial takes more than 0 and at most 86,400 seconds."));
    }
    if !(body.every_s >= 0.01 && body.seconds / body.every_s <= MOST_VALUES) {
        return Err(Problem::field("every_s", "A trial has at most 20,000 values, 10 ms or more apart."));
    }
    let rule = rule_of(&plant, body.tag, body.rule, body.set)?;
    let tags: Vec<Arc<Item<Tag>>> = plant.trial_tags(&rule).into_iter().cloned().collect();
    let mut made = Vec::new();
    for one in body.made_up {
        if let Some(words) = one.made.shape.wrong() {
            return Err(Problem::field("made_up", words));
        }
        let tag = tags.iter().find(|tag| tag.id == one.tag);
        let tag = tag.ok_or_else(|| Problem::field("made_up", "The rule does not read one of these tags."))?;
        made.push((tag.no, one.made, plant.type_of(&tag.set) == "bool"));
    }
    let numbers: HashSet<u32> = made.iter().map(|(no, ..)| *no).collect();
    if numbers.len() < made.len() {
        return Err(Problem::field("made_up", "Give each tag its values once."));
    }
    let (seconds, every_s) = (body.seconds, body.every_s);
    block(move || {
        let told = shape::told(&made, 0, seconds, every_s);
        let until = (seconds * SECOND as f64) as Nanos;
        let events = Trial::run(&plant, &rule, &told, (0, until));
        let judged = Judged::of(&events, until);
        let s = |at: Nanos| at as f64 / SECOND as f64;
        let column = |tag: &Arc<Item<Tag>>| {
            let of = told.iter().filter(|one| one.tag == tag.no);
            let values = of.map(|one| one.value.as_ref().and_then(havrel_core::sample::Value::number)).collect();
            TrialColumn { tag: tag.id, title: plant.tag_path(&tag.set), values }
        };
        Json(TrialView {
            seconds,
            every_s,
            columns: tags.iter().map(column).collect(),
            events: events.iter().take(MOST_EVENTS).map(|e| event_view(e, s(e.occurred_at))).collect(),
            spans: judged.alarms.iter().map(|alarm| (s(alarm.at), alarm.went.map(s))).collect(),
        })
    })
    .await
    .map_err(stopping)
}

fn event_view(e: &AlarmEvent, at_s: f64) -> TrialEvent {
    let values = e.values.iter().cloned().map(KeptValueView::of).collect();
    TrialEvent { at_s, kind: e.kind, text: e.text.clone(), comment: e.comment.clone(), suppressed: e.suppressed, values }
}

/// An alarm rule whose message is wanted.
#[derive(Deserialize, ToSchema)]
pub struct RuleMessageBody {
    pub tag: Uuid,
    /// The rule, where it is there already; `set` changes it.
    pub rule: Option<Uuid>,
    #[schema(value_type = Object)]
    pub set: Own,
}

/// What an alarm would say.
#[derive(Serialize, ToSchema)]
pub struct RuleMessageView {
    pub text: String,
    pub characters: usize,
    /// What would go with its event.
    pub values: Vec<KeptValueView>,
}

/// What an alarm of a rule would say if it came now.
#[utoipa::path(request_body = RuleMessageBody, responses((status = 200, body = RuleMessageView), (status = 422, body = Problem)))]
#[post("/api/rules/message")]
pub async fn rule_message(app: Data<App>, person: Person, body: Json<RuleMessageBody>) -> Result<Json<RuleMessageView>, Problem> {
    person.may(Action::See)?;
    let body = body.into_inner();
    let plant = person.plant(&app);
    let said = block(move || {
        let rule = rule_of(&plant, body.tag, body.rule, body.set)?;
        // The engine waits for whoever reads the values: they are copied, and worked with afterwards.
        let newest: HashMap<TagNo, Current> = {
            let values = app.live.values.read().unwrap_or_else(PoisonError::into_inner);
            let tags = plant.trial_tags(&rule).into_iter();
            tags.filter_map(|tag| Some((tag.no, values.of(tag.no)?.current.clone()))).collect()
        };
        let (text, kept) = plant.message_now(&rule, havrel_live::now(), &|tag| newest.get(&tag).cloned());
        let characters = text.chars().count();
        Ok(Json(RuleMessageView { text, characters, values: kept.into_iter().map(KeptValueView::of).collect() }))
    });
    said.await.map_err(stopping)?
}

/// A rule to run against what is recorded.
#[derive(Deserialize, ToSchema)]
pub struct BacktestBody {
    pub tag: Uuid,
    /// The rule, where it is there already: then it is run as it is, too.
    pub rule: Option<Uuid>,
    #[schema(value_type = Object)]
    pub set: Own,
    pub from: String,
    pub to: String,
}

/// What an operator would have seen of a rule.
#[derive(Serialize, ToSchema)]
pub struct JudgedView {
    pub alarms: usize,
    /// For how long an alarm stood, in all and the longest, in seconds.
    pub standing_s: f64,
    pub longest_s: f64,
    /// How many alarms came together with at least two others within a minute.
    pub chattering: usize,
    /// From when to when each stood, in milliseconds since 1970; null: until the end. At most 5,000.
    pub spans: Vec<(i64, Option<i64>)>,
}

impl JudgedView {
    fn of(judged: &Judged) -> JudgedView {
        let ms = |at: Nanos| at.div_euclid(1_000_000);
        let s = |span: Nanos| span as f64 / SECOND as f64;
        JudgedView {
            alarms: judged.alarms.len(),
            standing_s: s(judged.standing),
            longest_s: s(judged.longest),
            chattering: judged.chattering,
            spans: judged.alarms.iter().take(MOST_LISTED).map(|a| (ms(a.at), a.went.map(ms))).collect(),
        }
    }
}

/// Settings that would calm a rule.
#[derive(Serialize, ToSchema)]
pub struct CalmerView {
    pub deadband: f64,
    /// `unit` or `range`.
    pub deadband_in: String,
    pub on_delay_s: f64,
    pub off_delay_s: f64,
    pub judged: JudgedView,
    /// How many alarms that stood for a minute or longer would not have been seen.
    pub missed: usize,
    /// By how much the latest of the others would have come later, in seconds.
    pub later_s: f64,
}

/// What came of a backtest.
#[derive(Serialize, ToSchema)]
pub struct BacktestView {
    pub from: String,
    pub to: String,
    /// How many recorded values were gone through.
    pub values: usize,
    /// How the past was recorded, and what therefore cannot be judged; a sentence each.
    pub notes: Vec<String>,
    /// It cannot be judged at all.
    pub blind: bool,
    /// The rule as it is; null where it is new.
    pub as_it_is: Option<JudgedView>,
    pub proposed: JudgedView,
    pub calmer: Option<CalmerView>,
}

/// Runs an alarm rule against what is recorded, as it is and as it is typed, and looks for settings that would calm it.
#[utoipa::path(request_body = BacktestBody, responses((status = 200, body = BacktestView), (status = 422, body = Problem)))]
#[post("/api/rules/backtest")]
pub async fn backtest(app: Data<App>, person: Person, body: Json<BacktestBody>) -> Result<Json<BacktestView>, Problem> {
    person.may(Action::See)?;
    let body = body.into_inner();
    let (from, to) = period(&body.from, &body.to)?;
    if to - from > LONGEST {
        return Err(Problem::field("to", "A backtest goes through at most 31 days."));
    }
    let plant = person.plant(&app);
    let present = body.rule.and_then(|id| plant.rules.get(&id)).map(|rule| rule.set.clone());
    let rule = rule_of(&plant, body.tag, body.rule, body.set)?;
    let _turn = app.limits.heavy().await?;
    // What either version reads is told to both.
    let told = app.live.recorded(&plant, &rule, from, to).await?;
    let before = match &present {
        Some(present) if plant.judged_tags(present).iter().map(|t| t.no).ne(plant.judged_tags(&rule).iter().map(|t| t.no)) => {
            Some(app.live.recorded(&plant, present, from, to).await?)
        }
        _ => None,
    };
    block(move || {
        let span = (from, to);
        let judge = |rule: &Rule, told| Judged::of(&Trial::run(&plant, rule, told, span), to);
        let proposed = judge(&rule, &told);
        let as_it_is = present.as_ref().map(|present| judge(present, before.as_deref().unwrap_or(&told)));
        let begun = Instant::now();
        let calmer = calmer(&plant, &rule, &told, span, &proposed, &mut || begun.elapsed() < PATIENCE);
        let (notes, blind) = notes(&plant, &rule, told.len());
        Json(BacktestView {
            from: to_text(from),
            to: to_text(to),
            values: told.len(),
            notes,
            blind,
            as_it_is: as_it_is.as_ref().map(JudgedView::of),
            proposed: JudgedView::of(&proposed),
            calmer: calmer.map(|found| CalmerView {
                deadband: found.rule.deadband,
                deadband_in: serde_json::to_value(found.rule.deadband_in)
                    .ok()
                    .and_then(|v| v.as_str().map(str::to_owned))
                    .unwrap_or_default(),
                on_delay_s: found.rule.on_delay_s,
                off_delay_s: found.rule.off_delay_s,
                judged: JudgedView::of(&found.judged),
                missed: found.missed,
                later_s: found.later as f64 / SECOND as f64,
            }),
        })
    })
    .await
    .map_err(stopping)
}

/// How the past of a rule's tags was recorded, and whether it cannot be judged at all.
fn notes(plant: &Plant, rule: &Rule, values: usize) -> (Vec<String>, bool) {
    let mut notes = Vec::new();
    let mut blind = values == 0;
    for tag in plant.judged_tags(rule) {
        let path = plant.tag_path(&tag.set);
        if !plant.is_recorded(tag) {
            notes.push(format!("“{path}” is not recorded, so this cannot be judged."));
            blind = true;
        } else if tag.set.record_mode == RecordMode::OnChange && tag.set.record_deadband > 0.0 {
            let band = tag.set.record_deadband;
            let finer = rule.deadband_on(&tag.set) < band;
            let so = if finer { "; what is finer than that cannot be judged" } else { "" };
            notes.push(
                format!("“{path}” is recorded when it moves by {band} {}{so}.", tag.set.unit)
                    .replace(" ;", ";")
                    .replace(" .", "."),
            );
        }
    }
    if values == 0 {
        notes.push("Nothing is recorded in this period, so this cannot be judged.".into());
    }
    (notes, blind)
}
