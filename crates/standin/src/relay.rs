//! A cable between a client and a server of the plant, which can be cut and made slow.

use std::{io, net::SocketAddr, time::Duration};
use tokio::{
    io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, split},
    net::TcpStream,
    time::sleep,
};

/// How soon a cut cable is noticed.
const LOOK: Duration = Duration::from_millis(50);
/// How late each piece comes over a slow one.
const SLOW: Duration = Duration::from_millis(600);

/// What is wrong with a cable.
pub trait Cable: Send + Sync {
    fn cut(&self) -> bool;
    fn slow(&self) -> bool;
}

/// Carries bytes both ways until either side ends or the cable is cut.
pub async fn relay(outside: TcpStream, inside: SocketAddr, cable: impl Cable) {
    // Small answers must not wait to be sent together.
    let _ = outside.set_nodelay(true);
    carry(outside, inside, cable).await;
}

/// The same for whatever carries what the client says.
pub async fn carry(outside: impl AsyncRead + AsyncWrite, inside: SocketAddr, cable: impl Cable) {
    if cable.cut() {
        return;
    }
    let Ok(mut inside) = TcpStream::connect(inside).await else { return };
    let _ = inside.set_nodelay(true);
    let cut = async {
        while !cable.cut() {
            sleep(LOOK).await;
        }
    };
    let ((mut from_client, mut to_client), (from_server, mut to_server)) = (split(outside), inside.split());
    tokio::select! {
        // Whichever side ends, the other one ends too.
        _ = tokio::io::copy(&mut from_client, &mut to_server) => {}
        _ = answers(from_server, &mut to_client, &cable) => {}
        () = cut => {}
    }
}

/// Carries what the server says, late where that was ordered.
async fn answers(
    mut server: impl AsyncRead + Unpin,
    client: &mut (impl AsyncWrite + Unpin),
    cable: &impl Cable,
) -> io::Result<()> {
    let mut bytes = vec![0; 1 << 16];
    loop {
        let count = server.read(&mut bytes).await?;
        if count == 0 {
            return Ok(());
        }
        if cable.slow() {
            sleep(SLOW).await;
        }
        client.write_all(&bytes[..count]).await?;
    }
}
