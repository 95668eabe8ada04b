//! The server on a socket. In front of the library's server stands a relay, so that its cable can be cut and it can be restarted
//! while the address stays.

use super::{
    nodes::{NAMESPACE, Node, nodes},
    record::{Builder, Record, Recording},
    space,
};
use crate::{faults::Fault, relay, serve::Shared};
use opcua::{
    crypto::{PrivateKey, SecurityPolicy},
    server::{
        ANONYMOUS_USER_TOKEN_ID, Server, ServerBuilder, ServerHandle, ServerUserToken,
        diagnostics::NamespaceMetadata,
        node_manager::memory::{InMemoryNodeManager, InMemoryNodeManagerBuilder, simple_node_manager},
    },
    types::{DataValue, DateTime, MessageSecurityMode, NodeId, StatusCode, Variant},
};
use rcgen::{
    CertificateParams, DistinguishedName, DnType, ExtendedKeyUsagePurpose, IsCa, KeyPair, KeyUsagePurpose, SanType, date_time_ymd,
};
use std::{
    collections::HashSet,
    fs, io,
    net::SocketAddr,
    path::Path,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};
use tempfile::TempDir;
use tokio::{
    net::TcpListener,
    time::{MissedTickBehavior, interval, sleep},
};

/// How often values are taken from the process.
const BEAT: Duration = Duration::from_millis(200);
/// The server itself; the namespace of its nodes is another one, as the first belongs to the library's own nodes.
const APPLICATION: &str = "urn:brackmere:server:dryline";
/// How the server shows itself to clients; another face needs another server.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Face {
    certificate: Shown,
    /// Trusts no client's certificate.
    distrusts: bool,
    /// Lets nobody log in.
    locked: bool,
    /// Gives no subscriptions.
    plain: bool,
    /// Takes five values for a subscription.
    narrow: bool,
    /// Gives its namespaces other numbers.
    renumbered: bool,
}

/// Which of its certificates the server shows.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Shown {
    #[default]
    Usual,
    Renewed,
    Expired,
}

/// Where certificate and key lie in the folder of a server.
const CERTIFICATE: &str = "own/cert.der";
const KEY: &str = "private/private.pem";
/// How the server calls the keeper of the plant's nodes.
const NAME: &str = "dryline";
/// The user who may log in beside anonymous ones, and the password.
pub const USER: &str = "operator";
pub const PASSWORD: &str = "kelp";

fn builder(address: SocketAddr, pki: &Path, face: Face) -> ServerBuilder {
    let all = [USER, ANONYMOUS_USER_TOKEN_ID];
    let users = if face.locked { &all[..1] } else { &all };
    // A password that nobody types.
    let password = if face.locked { uuid::Uuid::new_v4().to_string() } else { PASSWORD.to_owned() };
    let secured = [
        (SecurityPolicy::Basic256Sha256, MessageSecurityMode::Sign),
        (SecurityPolicy::Basic256Sha256, MessageSecurityMode::SignAndEncrypt),
        (SecurityPolicy::Aes128Sha256RsaOaep, MessageSecurityMode::SignAndEncrypt),
        (SecurityPolicy::Aes256Sha256RsaPss, MessageSecurityMode::SignAndEncrypt),
    ];
    let mut builder = ServerBuilder::new()
        .application_name("Dryline")
        .application_uri(APPLICATION)
        .product_uri(APPLICATION)
        .certificate_path(CERTIFICATE)
        .private_key_path(KEY)
        .pki_dir(pki)
        .trust_client_certs(!face.distrusts)
        .host(address.ip().to_string())
        .port(address.port())
        .discovery_urls(vec![format!("opc.tcp://{address}/")])
        .add_user_token(USER, ServerUserToken::user_pass(USER, &password))
        .add_endpoint("none", ("/", SecurityPolicy::None, MessageSecurityMode::None, users));
    if face.plain {
        builder.limits_mut().subscriptions.max_subscriptions_per_session = 0;
    }
    if face.narrow {
        builder.limits_mut().subscriptions.max_monitored_items_per_sub = 5;
    }
    for (n, (policy, mode)) in secured.into_iter().enumerate() {
        let endpoint = ("/", policy, mode, users);
        builder = builder.add_endpoint(format!("secured{n}"), endpoint);
    }
    builder
}

/// The private key of all servers of this program, made once, as that takes long. PEM.
fn key() -> io::Result<String> {
    static KEY: Mutex<Option<String>> = Mutex::new(None);
    let mut held = KEY.lock().unwrap_or_else(PoisonError::into_inner);
    if held.is_none() {
        let made = PrivateKey::new(2048).map_err(io::Error::other)?.to_der().map_err(io::Error::other)?;
        *held = Some(KeyPair::try_from(made.as_bytes()).map_err(io::Error::other)?.serialize_pem());
    }
    held.clone().ok_or_else(|| io::Error::other("no key"))
}

/// A certificate for it. The usual one is the same for as long as the program runs.
fn certificate(key: &KeyPair, host: &str, shown: Shown) -> Result<Vec<u8>, rcgen::Error> {
    let mut params = CertificateParams::new([host.to_owned(), "localhost".to_owned()])?;
    params.subject_alt_names.insert(0, SanType::URI(APPLICATION.try_into()?));
    params.distinguished_name = DistinguishedName::new();
    params.distinguished_name.push(DnType::CommonName, "Dryline");
    params.is_ca = IsCa::ExplicitNoCa;
    params.key_usages = vec![
        KeyUsagePurpose::DigitalSignature,
        KeyUsagePurpose::ContentCommitment,
        KeyUsagePurpose::KeyEncipherment,
        KeyUsagePurpose::DataEncipherment,
        KeyUsagePurpose::KeyCertSign,
    ];
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
    let (serial, until) = match shown {
        Shown::Usual => (1u64, 2050),
        Shown::Renewed => (2, 2055),
        Shown::Expired => (3, 2025),
    };
    params.serial_number = Some(serial.into());
    (params.not_before, params.not_after) = (date_time_ymd(2024, 3, 1), date_time_ymd(until, 3, 1));
    Ok(params.self_signed(key)?.der().to_vec())
}

/// Builds a server in a folder of its own.
fn assemble(address: SocketAddr, face: Face, record: Arc<Record>) -> io::Result<(Server, ServerHandle, TempDir)> {
    let folder = tempfile::tempdir()?;
    let key = key()?;
    let pair = KeyPair::from_pem(&key).map_err(io::Error::other)?;
    let shown = certificate(&pair, &address.ip().to_string(), face.certificate).map_err(io::Error::other)?;
    for (path, bytes) in [(CERTIFICATE, shown.as_slice()), (KEY, key.as_bytes())] {
        let path = folder.path().join(path);
        path.parent().map_or(Ok(()), fs::create_dir_all)?;
        fs::write(path, bytes)?;
    }
    let metadata = NamespaceMetadata { namespace_uri: NAMESPACE.to_owned(), ..NamespaceMetadata::default() };
    let mut builder = builder(address, folder.path(), face);
    if face.renumbered {
        let uri = "urn:brackmere:added".to_owned();
        let added = NamespaceMetadata { namespace_uri: uri, ..NamespaceMetadata::default() };
        builder = builder.with_node_manager(simple_node_manager(added, "added"));
    }
    let built = builder.with_node_manager(InMemoryNodeManagerBuilder::new(Builder { metadata, name: NAME, record })).build();
    let (server, handle) = built.map_err(io::Error::other)?;
    Ok((server, handle, folder))
}

/// A server that runs.
struct Running {
    face: Face,
    handle: ServerHandle,
    manager: Arc<InMemoryNodeManager<Recording>>,
    record: Arc<Record>,
    nodes: Arc<Vec<Node>>,
    /// Their node ids, in the same order.
    ids: Vec<NodeId>,
    /// The number of their namespace.
    index: u16,
    address: SocketAddr,
    _pki: TempDir,
}

async fn start(address: SocketAddr, shared: &Shared, record: &Arc<Record>) -> io::Result<Running> {
    let face = shared.face();
    let (server, handle, pki) = assemble(address, face, record.clone())?;
    let manager = handle
        .node_managers()
        .get_by_name::<InMemoryNodeManager<Recording>>(NAME)
        .ok_or_else(|| io::Error::other("no node manager"))?;
    let index = handle.get_namespace_index(NAMESPACE).ok_or_else(|| io::Error::other("no namespace"))?;
    let nodes = Arc::new(nodes());
    space::build(&mut manager.address_space().write(), index, &nodes, shared);
    let works = shared.clone();
    manager.inner().simple.add_method_callback(space::reset(index), move |arguments| match arguments {
        [Variant::UInt32(from)] => {
            let mut works = works.lock();
            Ok(vec![Variant::UInt32(std::mem::replace(&mut works.process.dryline.bags, *from))])
        }
        [_] => Err(StatusCode::BadTypeMismatch),
        _ => Err(StatusCode::BadArgumentsMissing),
    });
    for (n, node) in nodes.iter().enumerate().filter(|(_, node)| node.write.is_some()) {
        let (shared, nodes) = (shared.clone(), nodes.clone());
        manager.inner().simple.add_write_callback(NodeId::new(index, node.id()), move |value, _| {
            let number = value.value.as_ref().and_then(|v| match v {
                Variant::Double(v) => Some(*v),
                Variant::Float(v) => Some(f64::from(*v)),
                Variant::Boolean(v) => Some(f64::from(u8::from(*v))),
                _ => None,
            });
            match (number, nodes[n].write.as_ref()) {
                (Some(number), Some(write)) if number.is_finite() => {
                    write(&mut shared.lock().process.dryline, number);
                    StatusCode::Good
                }
                _ => StatusCode::BadTypeMismatch,
            }
        });
    }
    let inner = TcpListener::bind("127.0.0.1:0").await?;
    let inside = inner.local_addr()?;
    tokio::spawn(server.run_with(inner));
    let ids = nodes.iter().map(|node| NodeId::new(index, node.id())).collect();
    Ok(Running { face, handle, manager, record: record.clone(), nodes, ids, index, address: inside, _pki: pki })
}

impl Running {
    /// Shows what the process holds now.
    fn show(&self, shared: &Shared) {
        let now = DateTime::now();
        let bad = shared.bad_nodes();
        let values: Vec<DataValue> = {
            let works = shared.lock();
            let shown = self.nodes.iter().map(|node| {
                let failed = !bad.is_empty() && bad.contains(&node.id());
                let status = if failed { StatusCode::BadSensorFailure } else { StatusCode::Good };
                DataValue {
                    value: Some(space::variant(&(node.read)(&works.process.dryline), self.index)),
                    status: Some(status),
                    source_timestamp: Some(now),
                    server_timestamp: Some(now),
                    ..DataValue::default()
                }
            });
            shown.collect()
        };
        for (node, data) in self.nodes.iter().zip(&values).filter(|(node, _)| node.recorded) {
            self.record.add(&node.id(), data);
        }
        let values = self.ids.iter().zip(values).map(|(id, data)| (id, None, data));
        // A node that is missing would be a mistake of this program, and then nothing is shown.
        let _ = self.manager.set_values(self.handle.subscriptions(), values);
    }
}

/// Answers clients until the listener fails.
///
/// # Errors
/// The listener's own failure, or a server that does not start; a failed connection ends alone.
pub async fn serve(listener: TcpListener, shared: Shared) -> io::Result<()> {
    let address = listener.local_addr()?;
    let record = Arc::default();
    let mut running = start(address, &shared, &record).await?;
    let mut beat = interval(BEAT);
    beat.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = beat.tick() => {
                if shared.restarts() {
                    running.handle.cancel();
                    // As long as a small controller takes.
                    sleep(Duration::from_secs(2)).await;
                    running = start(address, &shared, &record).await?;
                } else if shared.face() != running.face {
                    running.handle.cancel();
                    running = start(address, &shared, &record).await?;
                }
                running.show(&shared);
            }
            accepted = listener.accept() => {
                let Ok((outside, _)) = accepted else { continue };
                tokio::spawn(relay::relay(outside, running.address, shared.clone()));
            }
        }
    }
}

impl relay::Cable for Shared {
    fn cut(&self) -> bool {
        self.lock().faults.is_on(&Fault::ServerCut, Instant::now())
    }

    fn slow(&self) -> bool {
        self.lock().faults.is_on(&Fault::ServerSlow, Instant::now())
    }
}

impl Shared {
    fn face(&self) -> Face {
        let works = self.lock();
        let on = |fault: &Fault| works.faults.is_on(fault, Instant::now());
        let certificate = match (on(&Fault::ServerExpired), on(&Fault::ServerRenewed)) {
            (true, _) => Shown::Expired,
            (false, true) => Shown::Renewed,
            (false, false) => Shown::Usual,
        };
        Face {
            certificate,
            distrusts: on(&Fault::ServerDistrusts),
            locked: on(&Fault::ServerLocked),
            plain: on(&Fault::ServerPlain),
            narrow: on(&Fault::ServerNarrow),
            renumbered: on(&Fault::ServerRenumbered),
        }
    }

    fn bad_nodes(&self) -> HashSet<String> {
        let works = self.lock();
        let on = works.faults.on(Instant::now());
        on.filter_map(|(fault, _)| if let Fault::ServerBad { node } = fault { Some(node.clone()) } else { None }).collect()
    }

    /// Whether a restart was ordered; it is then under way.
    fn restarts(&self) -> bool {
        self.lock().faults.end(&Fault::ServerRestart)
    }
}
