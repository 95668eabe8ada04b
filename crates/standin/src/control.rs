//! The control interface on the loopback: one JSON order a line, one JSON answer a line.
//!
//! ```text
//! {"order":"list"}                                            what is wrong now
//! {"order":"begin","fault":"cut","controller":"wash","seconds":30}
//! {"order":"clear"}                                           ends all of it
//! answer: {"wrong":[{"fault":…,"title":"…","seconds":29.7}]} or {"error":"…"}
//! ```

use crate::{faults::Fault, serve::Shared};
use serde::{Deserialize, Serialize};
use std::{
    io,
    net::SocketAddr,
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader},
    net::{TcpListener, TcpStream},
};

/// What may be asked.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(tag = "order", rename_all = "snake_case")]
pub enum Order {
    List,
    Begin {
        #[serde(flatten)]
        fault: Fault,
        seconds: f64,
    },
    Clear,
}

#[derive(Debug, Serialize, Deserialize)]
struct Wrong {
    #[serde(flatten)]
    fault: Fault,
    title: String,
    seconds: f64,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Answer {
    Wrong(Vec<Wrong>),
    Error(String),
}

/// The longest line that is read.
const LINE: u64 = 4096;

fn follow(shared: &Shared, line: &str) -> Answer {
    let order = match serde_json::from_str(line) {
        Ok(order) => order,
        Err(e) => return Answer::Error(format!("this order cannot be read: {e}")),
    };
    let mut works = shared.lock();
    let now = Instant::now();
    match order {
        Order::List => {}
        Order::Clear => works.calm(),
        Order::Begin { fault, seconds } => {
            let Ok(lasts) = Duration::try_from_secs_f64(seconds) else {
                return Answer::Error("a fault lasts some seconds".into());
            };
            if let Err(words) = works.begin(fault, now, lasts) {
                return Answer::Error(words);
            }
        }
    }
    let wrong = works.wrong(now).into_iter();
    Answer::Wrong(wrong.map(|(fault, seconds)| Wrong { title: fault.to_string(), fault, seconds }).collect())
}

/// Follows orders until the listener fails.
///
/// # Errors
/// The listener's own failure.
pub async fn serve(listener: TcpListener, shared: Shared) -> io::Result<()> {
    loop {
        let (stream, _) = listener.accept().await?;
        let shared = shared.clone();
        tokio::spawn(async move {
            let (read, mut write) = stream.into_split();
            let mut read = BufReader::new(read);
            let mut line = String::new();
            while matches!((&mut read).take(LINE).read_line(&mut line).await, Ok(n) if n > 0) {
                let mut answer = serde_json::to_vec(&follow(&shared, &line)).unwrap_or_default();
                answer.push(b'\n');
                if write.write_all(&answer).await.is_err() {
                    return;
                }
                line.clear();
            }
        });
    }
}

/// Sends one order and gives the answer's titles with the seconds they last.
///
/// # Errors
/// When nobody answers at the address, or the order is refused.
pub async fn send(address: SocketAddr, order: &Order) -> io::Result<Vec<(String, f64)>> {
    let mut stream = TcpStream::connect(address).await?;
    let mut line = serde_json::to_vec(order)?;
    line.push(b'\n');
    stream.write_all(&line).await?;
    let mut answer = String::new();
    BufReader::new(stream).take(1 << 20).read_line(&mut answer).await?;
    match serde_json::from_str(&answer)? {
        Answer::Wrong(wrong) => Ok(wrong.into_iter().map(|w| (w.title, w.seconds)).collect()),
        Answer::Error(words) => Err(io::Error::other(words)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{faults::Which, process::Upset, registers::Works};

    #[tokio::test]
    async fn orders_are_followed_and_nonsense_is_told() {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        tokio::spawn(serve(listener, Shared::new(Works::new(1, 7), Which::Wash, 1)));
        let begin = |fault| Order::Begin { fault, seconds: 30.0 };
        send(address, &begin(Fault::Cut { controller: Which::Wash })).await.unwrap();
        let wrong = send(address, &begin(Fault::Process { upset: Upset::BlindFilter { tank: 2 } })).await.unwrap();
        let titles: Vec<_> = wrong.iter().map(|(t, _)| t.as_str()).collect();
        assert_eq!(titles, ["cable of Wash cut", "filter of wash tank 2 blinds"]);
        assert!(send(address, &begin(Fault::Process { upset: Upset::PumpTrip { tank: 7 } })).await.is_err());
        assert!(send(address, &Order::Clear).await.unwrap().is_empty());
        let mut stream = TcpStream::connect(address).await.unwrap();
        stream.write_all(b"{\"order\":\"explode\"}\n").await.unwrap();
        let mut answer = String::new();
        BufReader::new(stream).read_line(&mut answer).await.unwrap();
        assert!(answer.starts_with("{\"error\":\"this order cannot be read"), "{answer}");
    }
}
