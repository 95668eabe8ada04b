//! A broker that lets nobody log in: each client is answered that it is not allowed, in the version that it speaks.

use std::time::Duration;
use tokio::{
    io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt},
    time::timeout,
};

/// How long a client has to ask.
const PATIENCE: Duration = Duration::from_secs(5);
/// What stands before the version in a request (MQTT 5.0, 3.1.2.1).
const NAME: &[u8] = b"\0\x04MQTT";
/// Not authorized (MQTT 3.1.1, 3.2.2.3 and MQTT 5.0, 3.2.2.2).
const THREE: &[u8] = &[0x20, 2, 0, 5];
const FIVE: &[u8] = &[0x20, 3, 0, 0x87, 0];

/// Answers a client that asks, and leaves it.
pub async fn refuse(mut client: impl AsyncRead + AsyncWrite + Unpin) {
    let mut asked = [0; 64];
    let Ok(Ok(count)) = timeout(PATIENCE, client.read(&mut asked)).await else { return };
    // It may have gone meanwhile.
    let _ = client.write_all(answer(&asked[..count])).await;
    let _ = client.shutdown().await;
}

fn answer(asked: &[u8]) -> &'static [u8] {
    let at = asked.windows(NAME.len()).position(|window| window == NAME);
    match at.and_then(|at| asked.get(at + NAME.len())) {
        Some(5) => FIVE,
        _ => THREE,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::BytesMut;
    use rumqttc::{Connect, v5::mqttbytes::v5};

    #[test]
    fn the_answer_is_of_the_version_that_was_asked_in() {
        let mut bytes = BytesMut::new();
        Connect::new("meter").write(&mut bytes).unwrap();
        assert_eq!(answer(&bytes), THREE);
        bytes.clear();
        v5::Connect { keep_alive: 5, client_id: "meter".into(), clean_start: true, properties: None }
            .write(&None, &None, &mut bytes)
            .unwrap();
        assert_eq!(answer(&bytes), FIVE);
        assert_eq!(answer(b"GET / HTTP/1.1"), THREE);
    }
}
