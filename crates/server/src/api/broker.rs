//! A broker of our own: how it fares, who is connected, what was refused, and what its accounts may do.

use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    web::{Data, Path, Query},
};
use havrel_core::{access::Action, text::shown, time::to_text};
use havrel_link::served::{Received, Served, ServedClient, Why};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Where a device reaches the broker.
#[derive(Serialize, ToSchema)]
pub struct BrokerAddress {
    pub host: String,
    pub port: u16,
    pub secured: bool,
    pub websocket: bool,
}

/// What a client receives of the topics that it subscribes to.
#[derive(Serialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum BrokerReceives {
    All,
    Part,
    Nothing,
}

/// A subscription of a client.
#[derive(Serialize, ToSchema)]
pub struct BrokerSubscription {
    pub filter: String,
    /// Quality of service.
    pub qos: u8,
    /// What the rights of its account let through.
    pub receives: BrokerReceives,
}

/// A client that is connected.
#[derive(Serialize, ToSchema)]
pub struct BrokerClient {
    pub id: String,
    pub account: String,
    /// Its address and port.
    pub from: String,
    pub since: String,
    /// Of MQTT.
    pub version: &'static str,
    pub keep_alive_s: u32,
    /// The broker forgets it when it goes.
    pub clean: bool,
    pub subscriptions: Vec<BrokerSubscription>,
    /// Subscriptions beyond those.
    pub more_subscriptions: u64,
}

/// Something that was refused, once or often.
#[derive(Serialize, ToSchema)]
pub struct BrokerRefusal {
    pub why: Why,
    /// Empty where the broker does not tell.
    pub client: String,
    pub account: String,
    /// The address it came from; empty where the broker does not tell.
    pub from: String,
    /// The topic or filter, where it is about one.
    pub topic: String,
    pub count: u64,
    pub first: String,
    pub last: String,
}

/// How a broker of our own fares.
#[derive(Serialize, ToSchema)]
pub struct BrokerView {
    pub addresses: Vec<BrokerAddress>,
    /// The certificate of its secured ports as PEM; empty where there are none.
    pub certificate: String,
    /// SHA-256 of it.
    pub fingerprint: String,
    /// When it ends; null without one.
    pub certificate_until: Option<String>,
    /// By account and client id, at most 1,000.
    pub clients: Vec<BrokerClient>,
    /// Clients beyond those.
    pub more_clients: u64,
    /// How many clients are connected with each account that has any.
    pub accounts: Vec<BrokerConnected>,
    /// The latest first.
    pub refusals: Vec<BrokerRefusal>,
    /// Messages and bytes a second, in and out.
    pub messages_in: f64,
    pub messages_out: f64,
    pub bytes_in: f64,
    pub bytes_out: f64,
    /// Messages that waited for a client and were dropped, since the broker started.
    pub dropped: u64,
    /// Topics with a retained message.
    pub retained: u64,
    /// Whether messages that are refused are told at present; not while too many pass.
    pub watched: bool,
}

/// How many clients are connected with an account.
#[derive(Serialize, ToSchema)]
pub struct BrokerConnected {
    pub account: String,
    pub clients: u64,
}

fn client(one: ServedClient) -> BrokerClient {
    let subscriptions = one.client.subscriptions.into_iter().zip(one.receives).map(|((filter, qos), received)| {
        let receives = match received {
            Received::All => BrokerReceives::All,
            Received::Part => BrokerReceives::Part,
            Received::Nothing => BrokerReceives::Nothing,
        };
        BrokerSubscription { filter: shown(&filter).into_owned(), qos, receives }
    });
    BrokerClient {
        subscriptions: subscriptions.collect(),
        id: shown(&one.id).into_owned(),
        account: one.client.account,
        from: one.client.from,
        since: to_text(one.client.since),
        version: one.client.version,
        keep_alive_s: one.client.keep_alive_s,
        clean: one.client.clean,
        more_subscriptions: one.client.more_subscriptions,
    }
}

fn view(told: Served) -> BrokerView {
    let addresses = told.addresses.into_iter().map(|one| BrokerAddress {
        host: one.host,
        port: one.port,
        secured: one.secured,
        websocket: one.websocket,
    });
    let refusals = told.refusals.into_iter().map(|one| BrokerRefusal {
        why: one.why,
        client: shown(&one.client).into_owned(),
        account: one.account,
        from: one.from,
        topic: shown(&one.topic).into_owned(),
        count: one.count,
        first: to_text(one.first),
        last: to_text(one.last),
    });
    BrokerView {
        addresses: addresses.collect(),
        certificate: told.certificate,
        fingerprint: told.fingerprint,
        certificate_until: (told.certificate_until > 0).then(|| to_text(told.certificate_until)),
        clients: told.clients.into_iter().map(client).collect(),
        more_clients: told.more_clients,
        accounts: told.by_account.into_iter().map(|(account, clients)| BrokerConnected { account, clients }).collect(),
        refusals: refusals.collect(),
        messages_in: told.figures.messages_in,
        messages_out: told.figures.messages_out,
        bytes_in: told.figures.bytes_in,
        bytes_out: told.figures.bytes_out,
        dropped: told.figures.dropped,
        retained: told.figures.retained,
        watched: told.watched,
    }
}

/// Tells how a broker of our own fares: where devices reach it, who is connected, what was refused.
#[utoipa::path(responses((status = 200, body = BrokerView), (status = 502, body = Problem)))]
#[get("/api/connections/{id}/broker")]
pub async fn served(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<BrokerView>, Problem> {
    person.may(Action::Configure)?;
    person.plant(&app).connections.get(&id).ok_or_else(|| Problem::missing("connection"))?;
    Ok(Json(view(app.live.served(*id).await?)))
}

/// Which topics are asked about.
#[derive(Deserialize, IntoParams)]
pub struct AllowedQuery {
    /// A topic, or a filter of topics with + and #.
    topics: String,
}

/// What an account may do on the topics.
#[derive(Serialize, ToSchema)]
pub struct BrokerAllowed {
    pub account: String,
    /// It may publish on all of them.
    pub publishes: bool,
    /// It receives all of them.
    pub receives: bool,
}

/// Tells what each account of a broker of our own may do on some topics, whether it runs or not.
#[utoipa::path(params(AllowedQuery), responses((status = 200, body = Vec<BrokerAllowed>), (status = 422, body = Problem)))]
#[get("/api/connections/{id}/broker/allowed")]
pub async fn allowed(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    query: Query<AllowedQuery>,
) -> Result<Json<Vec<BrokerAllowed>>, Problem> {
    person.may(Action::Configure)?;
    let plant = person.plant(&app);
    let item = plant.connections.get(&id).ok_or_else(|| Problem::missing("connection"))?;
    let topics = query.topics.trim();
    havrel_link::mqtt::settings::check_filter(topics).map_err(|words| Problem::field("topics", words))?;
    let told = havrel_link::served::allowed(&item.set.settings, topics).into_iter();
    Ok(Json(told.map(|one| BrokerAllowed { account: one.account, publishes: one.publishes, receives: one.receives }).collect()))
}
