//! The server on a socket. In front of the library's server stands a relay, so that its cable can be cut and it can be restarted
//! while the address stays.

use super::nodes::{Held, NAMESPACE, Node, nodes};
use crate::{faults::Fault, serve::Shared};
use havrel_core::unit;
use opcua::{
    crypto::{PrivateKey, SecurityPolicy},
    nodes::{ObjectBuilder, VariableBuilder},
    server::{
        ANONYMOUS_USER_TOKEN_ID, Server, ServerBuilder, ServerHandle, ServerUserToken,
        address_space::AddressSpace,
        diagnostics::NamespaceMetadata,
        node_manager::memory::{SimpleNodeManager, simple_node_manager},
    },
    types::{
        DataTypeId, DataValue, DateTime, EUInformation, ExtensionObject, LocalizedText, MessageSecurityMode, NodeId, ObjectId,
        ObjectTypeId, Range, StatusCode, VariableTypeId, Variant,
    },
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
    net::{TcpListener, TcpStream},
    time::{MissedTickBehavior, interval, sleep},
};

/// How often values are taken from the process.
const BEAT: Duration = Duration::from_millis(200);
/// How often the relay looks whether its cable is cut.
const CABLE: Duration = Duration::from_millis(50);
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

fn variant(held: &Held) -> Variant {
    match held {
        Held::Double(v) => Variant::Double(*v),
        Held::Float(v) => Variant::Float(*v),
        Held::UInt32(v) => Variant::UInt32(*v),
        Held::UInt64(v) => Variant::UInt64(*v),
        Held::Boolean(v) => Variant::Boolean(*v),
        Held::Text(v) => Variant::from(v.as_str()),
        Held::State(v) => Variant::Int32(*v),
        Held::Doubles(v) => Variant::from(v.clone()),
    }
}

fn data_type(held: &Held) -> DataTypeId {
    match held {
        Held::Double(_) | Held::Doubles(_) => DataTypeId::Double,
        Held::Float(_) => DataTypeId::Float,
        Held::UInt32(_) => DataTypeId::UInt32,
        Held::UInt64(_) => DataTypeId::UInt64,
        Held::Boolean(_) => DataTypeId::Boolean,
        Held::Text(_) => DataTypeId::String,
        Held::State(_) => DataTypeId::Int32,
    }
}

/// The number of a unit: the characters of its UN/CEFACT common code (OPC UA Part 8, 5.6.3.3).
fn unit_of(symbol: &str) -> EUInformation {
    let known = unit::find(symbol);
    let code = known.map_or("", |u| u.common);
    EUInformation {
        namespace_uri: "http://www.opcfoundation.org/UA/units/un/cefact".into(),
        unit_id: code.bytes().fold(0, |number, byte| number << 8 | i32::from(byte)),
        display_name: symbol.into(),
        description: known.map_or(symbol, |u| u.name).into(),
    }
}

/// Puts folders and variables into the address space.
fn build(space: &mut AddressSpace, index: u16, nodes: &[Node], shared: &Shared) {
    let works = shared.lock();
    let mut places = HashSet::new();
    for node in nodes {
        let mut above = NodeId::from(ObjectId::ObjectsFolder);
        let mut path = String::new();
        for name in node.place.split('/') {
            path = if path.is_empty() { name.to_owned() } else { format!("{path}/{name}") };
            let id = NodeId::new(index, path.replace(' ', "").replace('/', "."));
            if places.insert(path.clone()) {
                ObjectBuilder::new(&id, name, name)
                    .has_type_definition(ObjectTypeId::FolderType)
                    .organized_by(above)
                    .insert(space);
            }
            above = id;
        }
        let held = (node.read)(&works.process.dryline);
        let id = NodeId::new(index, node.id());
        let kind = match (&held, node.states.is_empty()) {
            (Held::Boolean(_), _) => VariableTypeId::TwoStateDiscreteType,
            (Held::State(_), false) => VariableTypeId::MultiStateDiscreteType,
            _ if node.range.is_some() => VariableTypeId::AnalogItemType,
            _ => VariableTypeId::BaseDataVariableType,
        };
        let mut variable = VariableBuilder::new(&id, node.name, node.name)
            .data_type(data_type(&held))
            .value(variant(&held))
            .description(node.note)
            .has_type_definition(kind)
            .component_of(above);
        if let Held::Doubles(values) = &held {
            variable = variable.value_rank(1).array_dimensions(&[values.len() as u32]);
        }
        if node.write.is_some() {
            variable = variable.writable();
        }
        variable.insert(space);
        properties(space, index, node, &id);
    }
}

fn properties(space: &mut AddressSpace, index: u16, node: &Node, of: &NodeId) {
    let mut add = |name: &str, kind: DataTypeId, value: Variant| {
        let id = NodeId::new(index, format!("{}.{name}", node.id()));
        let rank = if matches!(value, Variant::Array(_)) { 1 } else { -1 };
        VariableBuilder::new(&id, name, name)
            .data_type(kind)
            .value(value)
            .value_rank(rank)
            .has_type_definition(VariableTypeId::PropertyType)
            .property_of(of.clone())
            .insert(space);
    };
    if let Some((low, high)) = node.range {
        add("EURange", DataTypeId::Range, Variant::from(ExtensionObject::from_message(Range { low, high })));
    }
    if !node.unit.is_empty() {
        add("EngineeringUnits", DataTypeId::EUInformation, Variant::from(ExtensionObject::from_message(unit_of(node.unit))));
        add("ValuePrecision", DataTypeId::Double, Variant::Double(node.decimals.into()));
    }
    if !node.states.is_empty() {
        let names: Vec<LocalizedText> = node.states.iter().map(|name| LocalizedText::from(*name)).collect();
        add("EnumStrings", DataTypeId::LocalizedText, Variant::from(names));
    }
    if let Some((off, on)) = node.switch {
        add("FalseState", DataTypeId::LocalizedText, Variant::from(LocalizedText::from(off)));
        add("TrueState", DataTypeId::LocalizedText, Variant::from(LocalizedText::from(on)));
    }
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
fn assemble(address: SocketAddr, face: Face) -> io::Result<(Server, ServerHandle, TempDir)> {
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
    let built = builder(address, folder.path(), face).with_node_manager(simple_node_manager(metadata, "dryline")).build();
    let (server, handle) = built.map_err(io::Error::other)?;
    Ok((server, handle, folder))
}

/// A server that runs.
struct Running {
    face: Face,
    handle: ServerHandle,
    manager: Arc<SimpleNodeManager>,
    nodes: Arc<Vec<Node>>,
    /// Their node ids, in the same order.
    ids: Vec<NodeId>,
    address: SocketAddr,
    _pki: TempDir,
}

async fn start(address: SocketAddr, shared: &Shared) -> io::Result<Running> {
    let face = shared.face();
    let (server, handle, pki) = assemble(address, face)?;
    let manager = handle.node_managers().get_of_type::<SimpleNodeManager>().ok_or_else(|| io::Error::other("no node manager"))?;
    let index = handle.get_namespace_index(NAMESPACE).ok_or_else(|| io::Error::other("no namespace"))?;
    let nodes = Arc::new(nodes());
    build(&mut manager.address_space().write(), index, &nodes, shared);
    for (n, node) in nodes.iter().enumerate().filter(|(_, node)| node.write.is_some()) {
        let (shared, nodes) = (shared.clone(), nodes.clone());
        manager.inner().add_write_callback(NodeId::new(index, node.id()), move |value, _| {
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
    Ok(Running { face, handle, manager, nodes, ids, address: inside, _pki: pki })
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
                    value: Some(variant(&(node.read)(&works.process.dryline))),
                    status: Some(status),
                    source_timestamp: Some(now),
                    server_timestamp: Some(now),
                    ..DataValue::default()
                }
            });
            shown.collect()
        };
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
    let mut running = start(address, &shared).await?;
    let mut beat = interval(BEAT);
    beat.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = beat.tick() => {
                if shared.restarts() {
                    running.handle.cancel();
                    // As long as a small controller takes.
                    sleep(Duration::from_secs(2)).await;
                    running = start(address, &shared).await?;
                } else if shared.face() != running.face {
                    running.handle.cancel();
                    running = start(address, &shared).await?;
                }
                running.show(&shared);
            }
            accepted = listener.accept() => {
                let Ok((outside, _)) = accepted else { continue };
                tokio::spawn(relay(outside, running.address, shared.clone()));
            }
        }
    }
}

/// Carries bytes both ways until either side ends or the cable is cut.
async fn relay(mut outside: TcpStream, inside: SocketAddr, shared: Shared) {
    if shared.server_cut() {
        return;
    }
    let Ok(mut inside) = TcpStream::connect(inside).await else { return };
    // Small answers must not wait to be sent together.
    let _ = (outside.set_nodelay(true), inside.set_nodelay(true));
    let cut = async {
        while !shared.server_cut() {
            sleep(CABLE).await;
        }
    };
    tokio::select! {
        // Whichever side ends, the other one ends too.
        _ = tokio::io::copy_bidirectional(&mut outside, &mut inside) => {}
        () = cut => {}
    }
}

impl Shared {
    fn server_cut(&self) -> bool {
        self.lock().faults.on(Instant::now()).any(|(fault, _)| *fault == Fault::ServerCut)
    }

    fn face(&self) -> Face {
        let works = self.lock();
        let on = |fault: &Fault| works.faults.on(Instant::now()).any(|(on, _)| on == fault);
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
