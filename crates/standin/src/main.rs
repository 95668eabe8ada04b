//! `havrel-standin`: the simulated plant as a program.

use clap::{Args, Parser, Subcommand};
use havrel_standin::{
    control, dryline, effluent,
    faults::{Fault, Which},
    history, maps, plant, post,
    process::Upset,
    registers::Works,
    serve, service, utilities,
};
use std::{
    convert::Infallible,
    error::Error,
    io::{self, Write},
    net::SocketAddr,
};
use tokio::net::TcpListener;

/// Simulated part of Brackmere Kelp Works behind two Modbus TCP controllers, an OPC UA server, an MQTT broker and a program
/// that answers over HTTP; with a mail server and a program that is told of alarms.
#[derive(Parser)]
struct Cli {
    #[command(subcommand)]
    command: What,
}

#[derive(Subcommand)]
enum What {
    /// Answers Modbus TCP, OPC UA, MQTT, HTTP and SMTP, and orders on the control interface.
    Serve(Box<Serve>),
    /// Makes something go wrong, in the program that serves.
    Fault {
        /// The control interface of the program that serves.
        #[arg(long, default_value = "127.0.0.1:5022")]
        at: SocketAddr,
        /// How long it lasts, in seconds (at most 3600).
        #[arg(long = "for", default_value_t = 60.0)]
        seconds: f64,
        #[command(subcommand)]
        fault: Order,
    },
    /// Prints the configuration of the demo, as Havrel exports and imports it.
    Plant,
    /// Reads what past is wanted as JSON and prints it as frames, the newest first.
    History(Model),
}

/// Which plant.
#[derive(Args)]
struct Model {
    /// How many extraction vessels (1 to 10).
    #[arg(long, default_value_t = 4, value_parser = clap::value_parser!(u16).range(1..=i64::from(maps::MOST_VESSELS)))]
    vessels: u16,
    /// The same seed gives the same plant.
    #[arg(long, default_value_t = 2611)]
    seed: u64,
    /// Hours for which the plant has been running (0 to 336).
    #[arg(long, default_value_t = 0.0)]
    past: f64,
}

#[derive(Args)]
struct Serve {
    /// Where controller “Extraction” listens; port 0 takes a free one. The addresses are printed.
    #[arg(long, default_value = "127.0.0.1:5020")]
    extraction: SocketAddr,
    /// Where controller “Wash” listens.
    #[arg(long, default_value = "127.0.0.1:5021")]
    wash: SocketAddr,
    /// The control interface; the loopback only.
    #[arg(long, default_value = "127.0.0.1:5022")]
    control: SocketAddr,
    /// Where server “Dryline” listens.
    #[arg(long, default_value = "127.0.0.1:5023")]
    dryline: SocketAddr,
    /// Where the broker of the utilities listens.
    #[arg(long, default_value = "127.0.0.1:5024")]
    utilities: SocketAddr,
    /// Where the service of weather and tariff listens.
    #[arg(long, default_value = "127.0.0.1:5025")]
    weather: SocketAddr,
    /// Where the mail server listens.
    #[arg(long, default_value = "127.0.0.1:5026")]
    mail: SocketAddr,
    /// Where the gatehouse screen takes hooks, and shows what it and the mail server received.
    #[arg(long, default_value = "127.0.0.1:5027")]
    hook: SocketAddr,
    /// The controllers' unit id.
    #[arg(long, default_value_t = 1)]
    unit: u8,
    /// Seconds of model time each second (0 stands still, at most 1000).
    #[arg(long, default_value_t = 1.0)]
    speed: f64,
    #[command(flatten)]
    model: Model,
    /// End when the standard input ends, as it does when the program that started this one is gone.
    #[arg(long)]
    until_input_ends: bool,
}

#[derive(Subcommand)]
enum Order {
    /// What is wrong now.
    List,
    /// End all that is wrong.
    Clear,
    /// Cut a controller's cable.
    Cut { controller: Which },
    /// Let a controller answer late.
    Delay { controller: Which, ms: u64 },
    /// Let a controller answer with exceptions.
    Exception { controller: Which },
    /// Let a controller's answers lack their last register.
    Short { controller: Which },
    /// Cut the cable of the server Dryline.
    CutServer,
    /// Restart the server Dryline.
    RestartServer,
    /// Let the server Dryline show a certificate that has expired.
    ExpiredServer,
    /// Let the server Dryline show another certificate than before.
    RenewedServer,
    /// Let the server Dryline trust no client.
    DistrustfulServer,
    /// Let the server Dryline refuse every login.
    LockedServer,
    /// Let the server Dryline give no subscriptions.
    PlainServer,
    /// Let a subscription of the server Dryline hold five values only.
    NarrowServer,
    /// Let the server Dryline say everything late.
    SlowServer,
    /// Let the server Dryline give its namespaces other numbers.
    RenumberedServer,
    /// Cut the cable of the broker.
    CutBroker,
    /// Let everything that the broker sends come late.
    SlowBroker,
    /// Let the broker show a certificate that has expired.
    ExpiredBroker,
    /// Let the broker let nobody log in.
    LockedBroker,
    /// Let meter M2 send half messages.
    BrokenMeter,
    /// Let meter M3 send nothing.
    SilentMeter,
    /// Let the broker retain the outside temperature, which is not measured any more.
    RetainedOutside,
    /// Cut the cable of the effluent station.
    CutStation,
    /// Let the effluent station lose messages.
    LossyStation,
    /// Let the effluent station not announce its devices.
    BirthlessStation,
    /// Let another station have the name of the effluent station.
    TwinStation,
    /// Let weather and tariff be unavailable.
    GoneService,
    /// Let weather and tariff send half answers.
    BrokenService,
    /// Let weather and tariff take no token.
    LockedService,
    /// Let the mail server be gone.
    GoneMail,
    /// Let the mail server know nobody.
    RefusingMail,
    /// Let the mail server say nothing.
    SilentMail,
    /// Let the gatehouse screen take nothing.
    ClosedHook,
    /// Let a node of the server Dryline have a bad status, such as: bad-node Drying.Mill.Vibration
    BadNode { node: String },
    /// Freeze a sensor, such as: freeze Extraction/EX-1 Temperature
    Freeze { place: String, point: String },
    /// Trip the pump of a wash tank.
    PumpTrip { tank: usize },
    /// Blind the filter of a wash tank.
    BlindFilter { tank: usize },
    /// Let the pH probe of a vessel drift.
    PhDrift { vessel: usize },
    /// Jam the mill, so that its drive trips.
    MillJam,
    /// Let the voltage of the mains be low.
    VoltageDip,
    /// Loosen the cable of the level probe of the hopper, so that its reading drops out again and again.
    LooseCable,
}

fn order(fault: Order, seconds: f64) -> control::Order {
    let process = |upset| Fault::Process { upset };
    let fault = match fault {
        Order::List => return control::Order::List,
        Order::Clear => return control::Order::Clear,
        Order::Cut { controller } => Fault::Cut { controller },
        Order::Delay { controller, ms } => Fault::Delay { controller, ms },
        Order::Exception { controller } => Fault::Exception { controller },
        Order::Short { controller } => Fault::Short { controller },
        Order::CutServer => Fault::ServerCut,
        Order::RestartServer => Fault::ServerRestart,
        Order::ExpiredServer => Fault::ServerExpired,
        Order::RenewedServer => Fault::ServerRenewed,
        Order::DistrustfulServer => Fault::ServerDistrusts,
        Order::LockedServer => Fault::ServerLocked,
        Order::PlainServer => Fault::ServerPlain,
        Order::NarrowServer => Fault::ServerNarrow,
        Order::SlowServer => Fault::ServerSlow,
        Order::RenumberedServer => Fault::ServerRenumbered,
        Order::CutBroker => Fault::BrokerCut,
        Order::SlowBroker => Fault::BrokerSlow,
        Order::ExpiredBroker => Fault::BrokerExpired,
        Order::LockedBroker => Fault::BrokerLocked,
        Order::BrokenMeter => Fault::MeterBroken,
        Order::SilentMeter => Fault::MeterSilent,
        Order::RetainedOutside => Fault::OutsideRetained,
        Order::CutStation => Fault::StationCut,
        Order::LossyStation => Fault::StationGap,
        Order::BirthlessStation => Fault::StationBirthless,
        Order::TwinStation => Fault::StationTwin,
        Order::GoneService => Fault::ServiceGone,
        Order::BrokenService => Fault::ServiceBroken,
        Order::LockedService => Fault::ServiceLocked,
        Order::GoneMail => Fault::MailGone,
        Order::RefusingMail => Fault::MailRefuses,
        Order::SilentMail => Fault::MailSilent,
        Order::ClosedHook => Fault::HookClosed,
        Order::BadNode { node } => Fault::ServerBad { node },
        Order::Freeze { place, point } => Fault::Freeze { place, point },
        Order::PumpTrip { tank } => process(Upset::PumpTrip { tank }),
        Order::BlindFilter { tank } => process(Upset::BlindFilter { tank }),
        Order::MillJam => process(Upset::MillJam),
        Order::VoltageDip => process(Upset::VoltageDip),
        Order::LooseCable => process(Upset::LooseCable),
        Order::PhDrift { vessel } => process(Upset::PhDrift { vessel }),
    };
    control::Order::Begin { fault, seconds }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn Error>> {
    match Cli::parse().command {
        What::Serve(args) => answer(*args).await?,
        What::Fault { at, seconds, fault } => {
            for (title, left) in control::send(at, &order(fault, seconds)).await? {
                println!("{title}, for another {left:.0} s");
            }
        }
        What::Plant => serde_json::to_writer(io::stdout().lock(), &plant::configuration()?)?,
        What::History(model) => {
            let wanted = serde_json::from_reader(io::stdin().lock())?;
            let mut out = io::BufWriter::new(io::stdout().lock());
            for frame in history::past(model.vessels.into(), model.seed, model.past, wanted)? {
                out.write_all(&frame.encode()?)?;
            }
            out.flush()?;
        }
    }
    Ok(())
}

async fn answer(args: Serve) -> io::Result<()> {
    if !args.control.ip().is_loopback() {
        return Err(io::Error::other("the control interface is for the loopback only"));
    }
    let speed = if args.speed.is_finite() { args.speed.clamp(0.0, 1000.0) } else { 1.0 };
    let extraction = TcpListener::bind(args.extraction).await?;
    let wash = TcpListener::bind(args.wash).await?;
    let orders = TcpListener::bind(args.control).await?;
    let server = TcpListener::bind(args.dryline).await?;
    let broker = TcpListener::bind(args.utilities).await?;
    let weather = TcpListener::bind(args.weather).await?;
    let (mail, hook) = (TcpListener::bind(args.mail).await?, TcpListener::bind(args.hook).await?);
    let process = history::aged(args.model.vessels.into(), args.model.seed, args.model.past);
    let shared = serve::Shared::new(Works::of(process, args.model.seed), Which::Extraction, args.unit);
    let [a, b, c] = [extraction.local_addr()?, wash.local_addr()?, orders.local_addr()?];
    let [d, e, f] = [server.local_addr()?, broker.local_addr()?, weather.local_addr()?];
    let [g, h] = [mail.local_addr()?, hook.local_addr()?];
    println!("listening: extraction {a} wash {b} control {c} dryline {d} utilities {e} weather {f} mail {g} hook {h}");
    let post = post::Post::default();
    let (mood, closed) = (shared.clone(), shared.clone());
    let mood = move || {
        let on = |fault| mood.has_fault(&fault);
        post::smtp::Mood { gone: on(Fault::MailGone), refuses: on(Fault::MailRefuses), silent: on(Fault::MailSilent) }
    };
    let closed = move || closed.has_fault(&Fault::HookClosed);
    tokio::select! {
        served = serve::serve(extraction, shared.clone()) => served,
        served = serve::serve(wash, shared.beside(Which::Wash)) => served,
        served = dryline::server::serve(server, shared.clone()) => served,
        never = messages_served(broker, shared.clone()) => match never {},
        served = service::serve::serve(weather, shared.clone()) => served,
        served = post::smtp::serve(mail, post.clone(), None, mood) => served,
        served = post::page::serve(hook, post, closed) => served,
        served = control::serve(orders, shared.clone()) => served,
        () = serve::run(shared, speed) => Ok(()),
        () = input_ends(), if args.until_input_ends => Ok(()),
    }
}

/// Serves the utilities and the effluent station through one broker; without it the rest of the plant goes on.
async fn messages_served(listener: TcpListener, shared: serve::Shared) -> Infallible {
    let served = async {
        let broker = utilities::serve::broker().await?;
        tokio::try_join!(
            effluent::serve::serve(broker.address, shared.clone()),
            utilities::serve::serve(listener, &broker, shared)
        )
    };
    if let Err(error) = served.await {
        eprintln!("havrel-standin: nobody answers for the utilities and the effluent station: {error}");
    }
    std::future::pending().await
}

async fn input_ends() {
    // Whatever comes is thrown away; a failure means the same as the end.
    let _ = tokio::io::copy(&mut tokio::io::stdin(), &mut tokio::io::sink()).await;
}
