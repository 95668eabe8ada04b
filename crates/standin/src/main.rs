//! `havrel-standin`: the simulated controller as a program.

use clap::Parser;
use havrel_standin::{registers::Controller, serve};
use std::{io, net::SocketAddr};

/// Simulated extraction vessels of Brackmere Kelp Works behind a Modbus TCP controller.
#[derive(Parser)]
struct Args {
    /// Where to listen; port 0 takes a free one. The address is printed.
    #[arg(long, default_value = "127.0.0.1:5020")]
    listen: SocketAddr,
    /// The controller's unit id.
    #[arg(long, default_value_t = 1)]
    unit: u8,
    /// How many vessels (1 to 100).
    #[arg(long, default_value_t = 2, value_parser = clap::value_parser!(u16).range(1..=100))]
    vessels: u16,
    /// The same seed gives the same plant.
    #[arg(long, default_value_t = 2611)]
    seed: u64,
    /// Seconds of model time each second (0 stands still, at most 1000).
    #[arg(long, default_value_t = 1.0)]
    speed: f64,
    /// End when the standard input ends, as it does when the program that started this one is gone.
    #[arg(long)]
    until_input_ends: bool,
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> io::Result<()> {
    let args = Args::parse();
    let speed = if args.speed.is_finite() { args.speed.clamp(0.0, 1000.0) } else { 1.0 };
    let listener = tokio::net::TcpListener::bind(args.listen).await?;
    println!("listening on {}", listener.local_addr()?);
    let shared = serve::Shared::new(Controller::new(args.vessels.into(), args.seed), args.unit);
    tokio::select! {
        served = serve::serve(listener, shared.clone()) => served,
        () = serve::run(shared, speed) => Ok(()),
        () = input_ends(), if args.until_input_ends => Ok(()),
    }
}

async fn input_ends() {
    // Whatever comes is thrown away; a failure means the same as the end.
    let _ = tokio::io::copy(&mut tokio::io::stdin(), &mut tokio::io::sink()).await;
}
