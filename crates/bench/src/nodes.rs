//! OPC UA: our driver against a bare client on the same library, both at a server that is a program of its own.

use crate::{Figures, Result, load::computed, quantile};
use clap::Args;
use havrel_core::plant::Connection;
use havrel_link::{
    Announcer, Ask, Command, Health, Identities, Identity, LinkError, LinkPlan, LinkState, NothingLeaves, PointPlan, Ports, now,
    runner, traffic::Tap,
};
use opcua::{
    client::{ClientBuilder, IdentityToken, OnSubscriptionNotification},
    crypto::SecurityPolicy,
    nodes::{ObjectBuilder, VariableBuilder},
    server::{
        ANONYMOUS_USER_TOKEN_ID, ServerBuilder,
        diagnostics::NamespaceMetadata,
        node_manager::memory::{SimpleNodeManager, simple_node_manager},
    },
    types::{
        AttributeId, BrowseDescription, BrowseDirection, DataTypeId, DataValue, DateTime, EndpointDescription,
        MessageSecurityMode, MonitoredItemCreateRequest, MonitoringMode, MonitoringParameters, NodeId, ObjectId, ObjectTypeId,
        ReadValueId, ReferenceTypeId, StatusCode, TimestampsToReturn, UserTokenPolicy, VariableTypeId,
    },
};
use serde_json::json;
use std::{
    io::{BufRead, BufReader},
    process::{Child, Stdio},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{
    io::AsyncReadExt,
    net::TcpListener,
    sync::{mpsc, oneshot, watch},
};

const NAMESPACE: &str = "urn:havrel:bench";
/// Variables of the server, in folders of a thousand.
const NODES: usize = 50_000;
const FOLDER: usize = 1_000;
/// Those that change each second, and are subscribed.
const ITEMS: usize = 10_000;
/// How long values are counted.
const COUNTED: Duration = Duration::from_secs(15);
/// How often the server of the takeover changes its values, and how often it sends them.
const QUICK: Duration = Duration::from_millis(100);

/// A server as a program of its own. It prints its port, and ends when its input does.
#[derive(Args)]
pub struct Settings {
    /// How many variables it has.
    #[arg(long, default_value_t = NODES)]
    nodes: usize,
    /// How often the first of them change, in ms.
    #[arg(long, default_value_t = 1000)]
    every_ms: u64,
}

fn id(index: u16, n: usize) -> NodeId {
    NodeId::new(index, format!("V{n}"))
}

/// Runs the server until its input ends.
pub async fn serve(settings: Settings) -> Result<()> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    let folder = tempfile::tempdir()?;
    let metadata = NamespaceMetadata { namespace_uri: NAMESPACE.to_owned(), ..NamespaceMetadata::default() };
    let users: &[&str] = &[ANONYMOUS_USER_TOKEN_ID];
    let mut builder = ServerBuilder::new()
        .application_name("Bench")
        // The library keeps the namespace of this name for itself.
        .application_uri("urn:havrel:bench:server")
        .create_sample_keypair(true)
        .pki_dir(folder.path())
        .host("127.0.0.1")
        .port(address.port())
        .discovery_urls(vec![format!("opc.tcp://{address}/")])
        .add_endpoint("none", ("/", SecurityPolicy::None, MessageSecurityMode::None, users))
        .with_node_manager(simple_node_manager(metadata, "bench"));
    builder.limits_mut().subscriptions.max_monitored_items_per_sub = ITEMS;
    let (server, handle) = builder.build()?;
    let manager = handle.node_managers().get_of_type::<SimpleNodeManager>().ok_or("no node manager")?;
    let index = handle.get_namespace_index(NAMESPACE).ok_or("no namespace")?;
    {
        let space = manager.address_space();
        let mut space = space.write();
        for first in (0..settings.nodes).step_by(FOLDER) {
            let (name, above) = (format!("Folder {}", first / FOLDER), NodeId::new(index, format!("F{}", first / FOLDER)));
            ObjectBuilder::new(&above, name.as_str(), name.as_str())
                .has_type_definition(ObjectTypeId::FolderType)
                .organized_by(NodeId::from(ObjectId::ObjectsFolder))
                .insert(&mut *space);
            for n in first..settings.nodes.min(first + FOLDER) {
                let name = format!("Value {n}");
                VariableBuilder::new(&id(index, n), name.as_str(), name.as_str())
                    .data_type(DataTypeId::Double)
                    .value(0.0)
                    .has_type_definition(VariableTypeId::BaseDataVariableType)
                    .component_of(above.clone())
                    .insert(&mut *space);
            }
        }
    }
    tokio::spawn(server.run_with(listener));
    println!("{}", address.port());
    let ids: Vec<NodeId> = (0..settings.nodes.min(ITEMS)).map(|n| id(index, n)).collect();
    let change = async {
        let mut beat = tokio::time::interval(Duration::from_millis(settings.every_ms));
        loop {
            beat.tick().await;
            let time = DateTime::now();
            let value = |n: usize| DataValue {
                value: Some((now() as f64 + n as f64).into()),
                status: Some(StatusCode::Good),
                source_timestamp: Some(time),
                server_timestamp: Some(time),
                ..DataValue::default()
            };
            let values = ids.iter().enumerate().map(|(n, id)| (id, None, value(n)));
            // A node that is missing would show as values that do not come.
            let _ = manager.set_values(handle.subscriptions(), values);
        }
    };
    let mut input = tokio::io::stdin();
    let mut rest = [0; 64];
    tokio::select! {
        () = change => {}
        () = async { while input.read(&mut rest).await.is_ok_and(|n| n > 0) {} } => {}
    }
    Ok(())
}

/// A server that runs beside.
struct Beside {
    child: Child,
    port: u16,
}

impl Beside {
    fn start(nodes: usize, every: Duration) -> Result<Beside> {
        let program = std::env::current_exe()?;
        let arguments = ["nodes", "--nodes", &nodes.to_string(), "--every-ms", &every.as_millis().to_string()];
        let mut child = std::process::Command::new(program)
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()?;
        let mut line = String::new();
        BufReader::new(child.stdout.take().ok_or("no output")?).read_line(&mut line)?;
        Ok(Beside { child, port: line.trim().parse()? })
    }

    fn end(&mut self) {
        // Whether it runs still or not, it is over.
        let _ = (self.child.kill(), self.child.wait());
    }
}

impl Drop for Beside {
    fn drop(&mut self) {
        self.end();
    }
}

/// An installation without a certificate.
pub(crate) struct Nobody;

impl Identities for Nobody {
    fn folder(&self) -> &std::path::Path {
        std::path::Path::new(".")
    }

    fn identity(&self) -> std::result::Result<Arc<Identity>, LinkError> {
        Err(LinkError::NotSecured("messages go in clear here".into()))
    }
}

/// Our driver, running.
struct Ours {
    batches: mpsc::Receiver<havrel_core::sample::Batch>,
    commands: mpsc::Sender<Command>,
    health: watch::Receiver<Health>,
    _plan: watch::Sender<Arc<LinkPlan>>,
}

fn ours(ports: &[u16], items: usize, interval: Duration, warm: bool) -> Result<Ours> {
    let url = |port: &u16| format!("opc.tcp://127.0.0.1:{port}");
    let spare: Vec<_> = ports[1..].iter().map(|port| json!({"url": url(port)})).collect();
    let set = json!({
        "name": "bench", "kind": "opcua", "interval_ms": interval.as_millis() as u64, "timeout_ms": 5000,
        "settings": {"url": url(&ports[0]), "spare": spare, "warm": warm},
    });
    let connection: Connection = serde_json::from_value(set)?;
    let point = |n: usize| {
        let point = json!({"address": format!("nsu={NAMESPACE};s=V{n}")}).as_object().cloned().unwrap_or_default();
        PointPlan { tag: n as u32 + 1, point, scaling: None, group: None }
    };
    let plan = LinkPlan { connection, points: (0..items).map(point).collect(), orders: Vec::new(), topics: Vec::new() };
    let (plan, plan_in) = watch::channel(Arc::new(plan));
    let (batches_out, batches) = mpsc::channel(1024);
    let (commands, commands_in) = mpsc::channel(8);
    let (health_out, health) = watch::channel(Health::new(LinkState::Connecting));
    let ports = Ports {
        plan: plan_in,
        batches: batches_out,
        commands: commands_in,
        health: health_out,
        tap: Tap::default(),
        announcer: Announcer::unheard(),
        outgoing: Arc::new(NothingLeaves::default()),
        identities: Arc::new(Nobody),
    };
    tokio::spawn(async move { runner("opcua").run(ports).await });
    Ok(Ours { batches, commands, health, _plan: plan })
}

/// Hears the bare client's values.
struct Hears(Arc<AtomicU64>);

impl OnSubscriptionNotification for Hears {
    fn on_data_value(&mut self, data: DataValue, _: &opcua::client::MonitoredItem) {
        std::hint::black_box(&data);
        self.0.fetch_add(1, Ordering::Relaxed);
    }
}

/// A bare client with a session.
async fn bare(port: u16, folder: &std::path::Path) -> Result<(Arc<opcua::client::Session>, tokio::task::JoinHandle<StatusCode>)> {
    let mut client = ClientBuilder::new()
        .application_name("bare")
        .application_uri("urn:bare")
        .pki_dir(folder)
        .create_sample_keypair(false)
        .trust_server_certs(true)
        .session_retry_limit(0)
        .max_message_size(32 << 20)
        .max_array_length(1_000_000)
        .client()
        .map_err(|wrong| wrong.join("; "))?;
    let url = format!("opc.tcp://127.0.0.1:{port}");
    let endpoint: EndpointDescription =
        (url.as_str(), SecurityPolicy::None.to_str(), MessageSecurityMode::None, UserTokenPolicy::anonymous()).into();
    let (session, lived) = client.connect_to_matching_endpoint(endpoint, IdentityToken::Anonymous).await?;
    let task = lived.spawn();
    session.wait_for_connection().await;
    Ok((session, task))
}

/// Counts for a while: values a second, and the share of a core that this program takes for it.
async fn counted(values: impl Fn() -> u64) -> (f64, f64) {
    let (pid, before, began) = (std::process::id(), values(), Instant::now());
    let computed_before = computed(pid);
    tokio::time::sleep(COUNTED).await;
    let seconds = began.elapsed().as_secs_f64();
    ((values() - before) as f64 / seconds, (computed(pid) - computed_before) / seconds)
}

/// Prints what subscriptions, browsing and a takeover cost.
pub async fn measure(figures: &mut Figures) -> Result<()> {
    subscribed(figures).await?;
    browsed(figures).await?;
    for warm in [true, false] {
        taken_over(figures, warm).await?;
    }
    Ok(())
}

async fn subscribed(figures: &mut Figures) -> Result<()> {
    let server = Beside::start(ITEMS, Duration::from_secs(1))?;
    let folder = tempfile::tempdir()?;
    let (session, task) = bare(server.port, folder.path()).await?;
    let index = session.read_namespace_array().await?.get_index(NAMESPACE).ok_or("no namespace")?;
    let heard = Arc::new(AtomicU64::new(0));
    let subscription = session.create_subscription(Duration::from_secs(1), 60, 5, 1000, 0, true, Hears(heard.clone())).await?;
    for part in (0..ITEMS).collect::<Vec<_>>().chunks(1000) {
        let items = part.iter().map(|n| MonitoredItemCreateRequest {
            item_to_monitor: ReadValueId {
                node_id: id(index, *n),
                attribute_id: AttributeId::Value as u32,
                ..Default::default()
            },
            monitoring_mode: MonitoringMode::Reporting,
            requested_parameters: MonitoringParameters {
                client_handle: *n as u32,
                sampling_interval: 1000.0,
                queue_size: 10,
                discard_oldest: true,
                ..Default::default()
            },
        });
        session.create_monitored_items(subscription, TimestampsToReturn::Both, items.collect()).await?;
    }
    tokio::time::sleep(Duration::from_secs(3)).await;
    let (_, limit) = counted(|| heard.load(Ordering::Relaxed)).await;
    session.disconnect().await?;
    task.abort();

    let mut running = ours(&[server.port], ITEMS, Duration::from_secs(1), false)?;
    let came = Arc::new(AtomicU64::new(0));
    let late: Arc<Mutex<Vec<f64>>> = Arc::default();
    let taking = tokio::spawn({
        let (came, late) = (came.clone(), late.clone());
        async move {
            while let Some(batch) = running.batches.recv().await {
                came.fetch_add(batch.samples.len() as u64, Ordering::Relaxed);
                let (at, mut late) = (now(), late.lock().unwrap_or_else(PoisonError::into_inner));
                late.extend(batch.samples.iter().map(|s| (at - s.time) as f64 / 1e6));
            }
        }
    });
    tokio::time::sleep(Duration::from_secs(3)).await;
    late.lock().unwrap_or_else(PoisonError::into_inner).clear();
    let (rate, cores) = counted(|| came.load(Ordering::Relaxed)).await;
    taking.abort();
    figures.add("OPC UA: values of 10,000 items that change each second", rate, "values/s", Some("9500"));
    figures.add("  cores of the driver", cores, "cores", None);
    figures.add("  cores of a bare client beside it", limit, "cores", None);
    figures.add("  ratio", cores / limit, "", Some("< 2"));
    let mut late = late.lock().unwrap_or_else(PoisonError::into_inner).clone();
    late.sort_by(f64::total_cmp);
    figures.add("  from the server's time to the engine's door, p95", quantile(&late, 0.95), "ms", Some("< 1200"));
    Ok(())
}

async fn browsed(figures: &mut Figures) -> Result<()> {
    let server = Beside::start(NODES, Duration::from_secs(3600))?;
    let folder = tempfile::tempdir()?;
    let (session, task) = bare(server.port, folder.path()).await?;
    let index = session.read_namespace_array().await?.get_index(NAMESPACE).ok_or("no namespace")?;
    let began = Instant::now();
    let mut limit = 0;
    for n in 0..NODES / FOLDER {
        let below = BrowseDescription {
            node_id: NodeId::new(index, format!("F{n}")),
            browse_direction: BrowseDirection::Forward,
            reference_type_id: ReferenceTypeId::HierarchicalReferences.into(),
            include_subtypes: true,
            node_class_mask: 0,
            result_mask: 63,
        };
        let told = session.browse(&[below], 0, None).await?;
        let found: Vec<NodeId> =
            told.into_iter().flat_map(|r| r.references.unwrap_or_default()).map(|r| r.node_id.node_id).collect();
        // Value, type, access and description, as a page shows them.
        for attribute in [AttributeId::Value, AttributeId::DataType, AttributeId::UserAccessLevel, AttributeId::Description] {
            let asked: Vec<_> = found
                .iter()
                .map(|id| ReadValueId { node_id: id.clone(), attribute_id: attribute as u32, ..Default::default() })
                .collect();
            session.read(&asked, TimestampsToReturn::Both, 0.0).await?;
        }
        limit += found.len();
    }
    let limit = limit as f64 / began.elapsed().as_secs_f64();
    session.disconnect().await?;
    task.abort();

    let mut running = ours(&[server.port], 0, Duration::from_secs(1), false)?;
    running.health.wait_for(|h| h.state == LinkState::Running).await?;
    let (began, mut found) = (Instant::now(), 0);
    for n in 0..NODES / FOLDER {
        let mut cursor = String::new();
        loop {
            let (reply, answer) = oneshot::channel();
            let ask = Ask { node: format!("nsu={NAMESPACE};s=F{n}"), cursor, most: 1000 };
            running.commands.send(Command::Browse { ask, reply }).await?;
            let page = answer.await??;
            found += page.nodes.len();
            let Some(next) = page.next else { break };
            cursor = next;
        }
    }
    let rate = found as f64 / began.elapsed().as_secs_f64();
    figures.ratio("OPC UA: nodes browsed with value, type, unit and access", rate, limit, "nodes/s", Some("0.5"));
    figures.add("  nodes found", found as f64, "nodes", Some("50000"));
    Ok(())
}

/// Ends the server in use, and measures the longest time between two values of the same tag around it.
async fn taken_over(figures: &mut Figures, warm: bool) -> Result<()> {
    let mut first = Beside::start(1000, QUICK)?;
    let second = Beside::start(1000, QUICK)?;
    let mut running = ours(&[first.port, second.port], 1000, QUICK, warm)?;
    running.health.wait_for(|h| h.state == LinkState::Running).await?;
    if warm {
        running.health.wait_for(|h| h.learnt.iter().any(|l| l.ends_with("is ready to take over."))).await?;
    }
    let until = Instant::now() + Duration::from_secs(12);
    let end_at = Instant::now() + Duration::from_secs(4);
    let (mut last, mut longest, mut ended) = (0, 0, false);
    while let Ok(Some(batch)) = tokio::time::timeout_at(until.into(), running.batches.recv()).await {
        if !ended && Instant::now() >= end_at {
            first.end();
            ended = true;
        }
        for sample in batch.samples.iter().filter(|s| s.tag == 1 && batch.value_of(**s).is_some()) {
            if last != 0 && ended {
                longest = longest.max(sample.time - last);
            }
            last = last.max(sample.time);
        }
    }
    let (name, goal) = match warm {
        true => ("OPC UA: longest gap at a takeover, session ready, 100 ms publishing", Some("< 250")),
        false => ("  the same without a session ready", None),
    };
    figures.add(name, longest as f64 / 1e6, "ms", goal);
    Ok(())
}
