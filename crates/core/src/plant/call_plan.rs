//! Call-out plans: who is told of an alarm that nobody acknowledges, one after the other, until somebody takes it.

use super::{
    Item, Kind, Plant, Settings, Table,
    check::{Wrong, between, name, text},
    kind::{Checking, Reference},
    week::Hours,
};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Most steps of a plan.
const MOST_STEPS: usize = 20;
/// Most times that its steps are gone through.
pub const MOST_ROUNDS: u32 = 10;
/// The longest address of an e-mail (RFC 5321, 4.5.3.1.3).
const LONGEST_ADDRESS: usize = 254;

/// Who is called for which alarms.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CallPlan {
    pub name: String,
    #[serde(default)]
    pub note: String,
    #[serde(default = "yes")]
    pub enabled: bool,
    /// Only for alarms at this place and below; everywhere, and about Havrel itself, where nothing is said.
    #[serde(default)]
    pub under: Option<Uuid>,
    /// For alarms of this priority and of higher ones, 1 to 4.
    #[serde(default = "three")]
    pub lowest: u8,
    /// Only for alarms of these classes; of any where none is named.
    #[serde(default)]
    pub classes: Vec<Uuid>,
    /// When it applies.
    #[serde(default)]
    pub hours: Hours,
    /// Minutes for which an alarm may stand without being acknowledged before somebody is called, 0 to 1,440.
    #[serde(default)]
    pub after_min: f64,
    pub steps: Vec<CallStep>,
    /// How often the steps are gone through, 1 to 10.
    #[serde(default = "twice")]
    pub rounds: u32,
    /// The mail server through which people are told.
    #[serde(default)]
    pub mail: Option<Uuid>,
    #[serde(default)]
    pub order: f64,
}

/// One step: who is told, and for how long they have time to take it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CallStep {
    pub to: CallTo,
    /// Minutes before the next step, 0 to 1,440.
    #[serde(default = "five")]
    pub wait_min: f64,
}

/// Who is told.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum CallTo {
    /// Somebody with an account, at the address that stands there.
    Person { account: Uuid },
    /// Everybody of the crew that works at the place of the alarm.
    Crew,
    /// An address without an account.
    Address { mail: String },
    /// Another program.
    Hook { connection: Uuid },
}

impl CallTo {
    /// Whether they are told by mail.
    pub fn by_mail(&self) -> bool {
        !matches!(self, CallTo::Hook { .. })
    }
}

/// How a connection carries what is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Carrier {
    Mail,
    Hook,
    /// It takes files and tells nobody.
    Folder,
}

/// Whether a text will do as the address of an e-mail: a part before the “@”, a domain behind it, and nothing that could end a line.
pub fn is_address(text: &str) -> bool {
    let plain =
        text.len() <= LONGEST_ADDRESS && text.chars().all(|c| !c.is_whitespace() && !c.is_control() && !"<>,;\"".contains(c));
    plain && text.rsplit_once('@').is_some_and(|(name, domain)| !name.is_empty() && !name.contains('@') && !domain.is_empty())
}

/// An alarm for which somebody may have to be called.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Concerning {
    pub priority: u8,
    /// None for an alarm about Havrel itself.
    pub place: Option<Uuid>,
    pub class: Option<Uuid>,
}

impl CallPlan {
    /// Whether somebody is called for such an alarm by this plan, if it applies at the time.
    pub fn concerns(&self, alarm: &Concerning, plant: &Plant) -> bool {
        let within = match (self.under, alarm.place) {
            (None, _) => true,
            (Some(under), Some(place)) => plant.lies_under(place, under),
            (Some(_), None) => false,
        };
        let class = || self.classes.is_empty() || alarm.class.is_some_and(|class| self.classes.contains(&class));
        self.enabled && alarm.priority >= self.lowest && within && class()
    }
}

impl Settings for CallPlan {
    const KIND: Kind = Kind::CallPlan;

    fn table(plant: &Plant) -> &Table<CallPlan> {
        &plant.call_plans
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<CallPlan> {
        &mut plant.call_plans
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (None, &self.name)
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn references(&self) -> Vec<Reference> {
        let mut all: Vec<Reference> = self.under.map(|to| Reference::to("under", Kind::Place, to)).into_iter().collect();
        all.extend(self.mail.map(|to| Reference::to("mail", Kind::Connection, to)));
        all.extend(self.classes.iter().map(|&to| Reference::to("classes", Kind::AlarmClass, to)));
        for (n, step) in self.steps.iter().enumerate() {
            if let CallTo::Hook { connection } = step.to {
                all.push(Reference::to(format!("steps[{n}].to.connection"), Kind::Connection, connection));
            }
        }
        all
    }

    fn uses(item: &Item<CallPlan>, reference: &Reference, _: &Plant) -> String {
        let name = &item.set.name;
        match reference.field.as_str() {
            "under" => format!("the call-out plan “{name}” is for it"),
            "classes" => format!("the call-out plan “{name}” is for alarms of it"),
            "mail" => format!("the call-out plan “{name}” sends its mail"),
            _ => format!("the call-out plan “{name}” tells it"),
        }
    }

    fn check(item: &Item<CallPlan>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let set = &item.set;
        name(wrong, &set.name);
        text(wrong, "note", &set.note);
        between(wrong, "lowest", set.lowest, 1, 4);
        between(wrong, "after_min", set.after_min, 0.0, 1440.0);
        between(wrong, "rounds", set.rounds, 1, MOST_ROUNDS);
        wrong.extend(set.hours.check("hours"));
        if set.steps.is_empty() || set.steps.len() > MOST_STEPS {
            wrong.push(("steps".into(), format!("Enter 1 to {MOST_STEPS} steps.")));
        }
        let carries = |id: &Uuid, carrier| {
            let connection = checking.plant.connections.get(id);
            connection.is_none_or(|connection| checking.source.carries(&connection.set, carrier))
        };
        match &set.mail {
            None if set.steps.iter().any(|step| step.to.by_mail()) => {
                wrong.push((
                    "mail".into(),
                    "Choose the mail server through which people are told; connect one first where there is none.".into(),
                ));
            }
            Some(mail) if !carries(mail, Carrier::Mail) => wrong.push(("mail".into(), "This is no mail server.".into())),
            _ => {}
        }
        for (n, step) in set.steps.iter().enumerate() {
            between(wrong, &format!("steps[{n}].wait_min"), step.wait_min, 0.0, 1440.0);
            match &step.to {
                CallTo::Address { mail } if !is_address(mail) => {
                    wrong.push((format!("steps[{n}].to.mail"), "Write an address like control@works.example.".into()));
                }
                CallTo::Hook { connection } if !carries(connection, Carrier::Hook) => {
                    wrong.push((format!("steps[{n}].to.connection"), "This is no web hook.".into()));
                }
                _ => {}
            }
        }
        // Otherwise one call would send without end within a minute.
        if set.rounds > 1 && !set.steps.is_empty() && set.steps.iter().map(|step| step.wait_min).sum::<f64>() < 1.0 {
            wrong.push(("rounds".into(), "Steps that are gone through again must take at least a minute.".into()));
        }
    }
}

fn yes() -> bool {
    true
}
fn three() -> u8 {
    3
}
fn twice() -> u32 {
    2
}
fn five() -> f64 {
    5.0
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    const SITE: Uuid = Uuid::from_u128(1);
    const MILL: Uuid = Uuid::from_u128(2);
    const CLASS: Uuid = Uuid::from_u128(3);

    fn plant() -> Plant {
        let mut plant = Plant::default();
        let own = |json: Json| json.as_object().unwrap().clone();
        plant.put(Kind::Place, SITE, 0, 1, own(json!({"name": "Works"}))).unwrap();
        plant.put(Kind::Place, MILL, 0, 1, own(json!({"name": "Mill", "parent": SITE}))).unwrap();
        plant.put(Kind::AlarmClass, CLASS, 0, 1, own(json!({"name": "Process"}))).unwrap();
        plant
    }

    fn plan(more: Json) -> CallPlan {
        let mut own = json!({"name": "Night", "mail": Uuid::from_u128(9), "steps": [{"to": {"kind": "crew"}}]});
        own.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        serde_json::from_value(own).unwrap()
    }

    #[rstest]
    #[case::everywhere(json!({}), 3, Some(MILL), None, true)]
    #[case::too_low(json!({}), 2, Some(MILL), None, false)]
    #[case::below_its_place(json!({"under": SITE}), 4, Some(MILL), None, true)]
    #[case::at_its_place(json!({"under": MILL}), 4, Some(MILL), None, true)]
    #[case::elsewhere(json!({"under": MILL}), 4, Some(SITE), None, false)]
    #[case::havrel_itself(json!({}), 3, None, None, true)]
    #[case::havrel_is_at_no_place(json!({"under": SITE}), 3, None, None, false)]
    #[case::of_its_class(json!({"classes": [CLASS]}), 3, Some(MILL), Some(CLASS), true)]
    #[case::of_no_class(json!({"classes": [CLASS]}), 3, Some(MILL), None, false)]
    #[case::off(json!({"enabled": false}), 4, Some(MILL), None, false)]
    fn a_plan_concerns_some_alarms(
        #[case] more: Json,
        #[case] priority: u8,
        #[case] place: Option<Uuid>,
        #[case] class: Option<Uuid>,
        #[case] expected: bool,
    ) {
        assert_eq!(plan(more).concerns(&Concerning { priority, place, class }, &plant()), expected);
    }

    #[rstest]
    #[case::as_it_is(json!({}), &[])]
    #[case::without_a_mail_server(json!({"mail": null}), &["mail"])]
    #[case::a_hook_needs_none(json!({"mail": null, "steps": [{"to": {"kind": "hook", "connection": SITE}}]}), &[])]
    #[case::nobody(json!({"steps": []}), &["steps"])]
    #[case::no_address(json!({"steps": [{"to": {"kind": "address", "mail": "somebody"}}]}), &["steps[0].to.mail"])]
    #[case::without_end(json!({"rounds": 3, "steps": [{"to": {"kind": "crew"}, "wait_min": 0}]}), &["rounds"])]
    #[case::once_at_once(json!({"rounds": 1, "steps": [{"to": {"kind": "crew"}, "wait_min": 0}]}), &[])]
    #[case::beyond(json!({"lowest": 0, "after_min": 2000, "rounds": 11}), &["lowest", "after_min", "rounds"])]
    #[case::hours(json!({"hours": {"zone": "UTC", "windows": [{"days": [], "from": "22:00", "to": "06:00"}]}}), &["hours.windows[0].days"])]
    fn what_is_wrong_is_told(#[case] more: Json, #[case] fields: &[&str]) {
        let mut wrong = Wrong::new();
        let item = Item { id: Uuid::nil(), no: 0, revision: 1, own: Default::default(), set: plan(more) };
        CallPlan::check(&item, &Checking::new(&plant(), &()), &mut wrong);
        assert_eq!(wrong.into_iter().map(|(field, _)| field).collect::<Vec<_>>(), fields);
    }

    #[rstest]
    #[case("control@works.example", true)]
    #[case("m.oyen+night@post.works.example", true)]
    #[case("control", false)]
    #[case("@works.example", false)]
    #[case("a@b@works.example", false)]
    #[case("control@works.example\r\nBcc: all@works.example", false)]
    #[case("Control <control@works.example>", false)]
    fn addresses(#[case] text: &str, #[case] good: bool) {
        assert_eq!(is_address(text), good);
    }
}
