//! What a session needs before it opens: certificates that are judged, the login, and files that the library reads.

use super::{
    dial::{CERTIFICATE, Dial, KEY, URI, client, folder, within},
    settings::{Login, Settings},
    trust::{self, Trusted},
};
use crate::{
    Identities, Identity, LinkError,
    certificate::{self, Told},
    now,
};
use havrel_core::{plant::Secret, time::Nanos};
use opcua::{
    client::{Client, IdentityToken, SessionBuilder, transport::TransportPollResult},
    crypto::{CertificateStore, PrivateKey, X509},
    types::{ByteString, EndpointDescription, Error},
};
use std::sync::Arc;
use tempfile::TempDir;

fn token(settings: &Settings) -> Result<IdentityToken, LinkError> {
    match (settings.login, &settings.password, &settings.key) {
        (Login::Anonymous, ..) => Ok(IdentityToken::Anonymous),
        (Login::User, Some(Secret::Plain(password)), _) => {
            Ok(IdentityToken::new_user_name(settings.user.trim(), password.as_str()))
        }
        (Login::User, ..) => Err(LinkError::NoSecret("password".into())),
        (Login::Certificate, _, Some(Secret::Plain(key))) => {
            let certificate = X509::from_pem(settings.certificate.as_bytes());
            let certificate =
                certificate.map_err(|_| LinkError::BadRequest("The certificate of the login cannot be read.".into()))?;
            let key = PrivateKey::from_pem(key.as_bytes());
            let key = key.map_err(|_| LinkError::BadRequest("The private key of the login is not of the kind RSA.".into()))?;
            Ok(IdentityToken::new_x509(certificate, key))
        }
        (Login::Certificate, ..) => Err(LinkError::NoSecret("private key".into())),
    }
}

/// An endpoint with all that a session there needs.
pub(super) struct Prepared {
    pub dial: Dial,
    endpoint: EndpointDescription,
    token: IdentityToken,
    pub client: Client,
    /// Holds files that the library reads.
    pub folder: Arc<TempDir>,
    /// Whose certificates count, and until when they are valid.
    pub until: Vec<(&'static str, Nanos)>,
    /// Of our own certificate; empty where none is shown.
    pub own: String,
}

/// What messages are secured with: the server's certificate, which is trusted, and our own.
struct Pair {
    server: Trusted,
    own: Arc<Identity>,
    told: Told,
}

/// Judges the certificate that an endpoint shows.
///
/// # Errors
/// Why it is not trusted.
pub(super) fn trusted(
    dial: &Dial,
    settings: &Settings,
    path: usize,
    endpoint: &EndpointDescription,
) -> Result<Trusted, LinkError> {
    let sent = endpoint.server_certificate.value.as_deref().unwrap_or_default();
    let uri = endpoint.server.application_uri.as_ref();
    let judged = trust::judge(sent, &dial.target.host, uri, &settings.trust(path), now())?;
    trust::fits(&judged.own, settings.security.policy())?;
    Ok(judged)
}

/// The private folder of a session, with what the library reads from files. The server's certificate counts as trusted there, as it
/// has been judged.
fn private(pair: Option<&Pair>) -> Result<TempDir, LinkError> {
    let folder = folder()?;
    let Some(Pair { server, own, .. }) = pair else { return Ok(folder) };
    let known =
        X509::from_der(&server.own).map_err(|_| LinkError::NotSecured("the server’s certificate cannot be read".into()))?;
    let trusted = format!("trusted/{}", CertificateStore::cert_file_name(&known));
    let files = [(CERTIFICATE, own.certificate.as_slice()), (KEY, own.key.as_bytes()), (&trusted, &server.own)];
    let write = |(path, bytes): (&str, &[u8])| -> std::io::Result<()> {
        let path = folder.path().join(path);
        path.parent().map_or(Ok(()), std::fs::create_dir_all)?;
        std::fs::write(path, bytes)
    };
    let written: std::io::Result<()> = files.into_iter().try_for_each(write);
    written.map_err(|e| LinkError::NotSecured(format!("a private file could not be written: {}", e.kind())))?;
    Ok(folder)
}

/// What the end of a channel with certificates means: many servers that refuse ours close the connection without an answer.
pub(super) fn shut_out(error: LinkError) -> LinkError {
    if error == LinkError::Closed { LinkError::ShutOut } else { error }
}

impl Prepared {
    /// With the certificate that was judged, where messages are secured.
    ///
    /// # Errors
    /// When the login or our own certificate is missing.
    pub async fn new(
        dial: Dial,
        settings: &Settings,
        mut endpoint: EndpointDescription,
        server: Option<Trusted>,
        identities: &Arc<dyn Identities>,
    ) -> Result<Prepared, LinkError> {
        let token = token(settings)?;
        let identities = identities.clone();
        // Making a key takes a while, and files wait for a disk.
        let made = tokio::task::spawn_blocking(move || {
            let pair = server.map(|server| -> Result<Pair, LinkError> {
                let own = identities.identity()?;
                let told = own.told().ok_or_else(|| LinkError::NotSecured("Havrel’s own certificate cannot be read".into()))?;
                Ok(Pair { server, own, told })
            });
            let pair = pair.transpose()?;
            Ok((private(pair.as_ref())?, pair))
        });
        let (folder, pair) = made.await.map_err(|e| LinkError::NotSecured(e.to_string()))??;
        // The name under which the server knows itself may lead nowhere from here; what works is the address that was typed.
        endpoint.endpoint_url = dial.target.url.as_str().into();
        let sent = endpoint.server_certificate.value.as_deref().unwrap_or_default();
        // The library reads one certificate only, not those of authorities that may follow.
        endpoint.server_certificate = certificate::chain(sent).first().map_or_else(ByteString::null, |own| (*own).into());
        // A login without a policy of its own has that of the endpoint (Part 4, 7.42); the library takes it for none.
        let policy = endpoint.security_policy_uri.clone();
        let logins = endpoint.user_identity_tokens.iter_mut().flatten();
        logins.filter(|login| login.security_policy_uri.is_empty()).for_each(|login| login.security_policy_uri = policy.clone());
        let uri = pair.as_ref().and_then(|p| p.told.uris.first()).map_or(URI, String::as_str);
        let client = client(&folder, uri, dial.timeout_ms, 3)?;
        let until = pair.iter().flat_map(|p| [("the server", p.server.told.until), ("Havrel", p.told.until)]).collect();
        let own = pair.map_or_else(String::new, |p| trust::compared(&p.own.certificate));
        Ok(Prepared { dial, endpoint, token, client, folder: Arc::new(folder), until, own })
    }

    pub fn builder(&self) -> Result<SessionBuilder<'_, EndpointDescription, (), Dial>, LinkError> {
        let builder = self.client.session_builder().user_identity_token(self.token.clone()).with_connector(self.dial.clone());
        builder.connect_to_endpoint_directly(self.endpoint.clone()).map_err(|e| self.dial.error(e.status()))
    }

    /// Whether our own certificate is shown.
    pub fn secured(&self) -> bool {
        !self.own.is_empty()
    }

    /// Opens a secured channel and closes it again, so that what is wrong with it is told apart from the login.
    ///
    /// # Errors
    /// In words that say what to do.
    pub async fn channel(&self) -> Result<(), LinkError> {
        let failed = |e: Error| self.dial.error(e.status());
        let channel = self.builder()?.build_channel(self.client.certificate_store().clone()).map_err(failed)?;
        let opened = within(self.dial.timeout_ms, channel.connect_no_retry(&self.dial)).await?;
        let mut events = opened.map_err(|e| shut_out(failed(e)))?;
        let close = async {
            channel.close_channel().await;
            while !matches!(events.poll().await, TransportPollResult::Closed(_)) {}
        };
        within(self.dial.timeout_ms, close).await
    }
}
