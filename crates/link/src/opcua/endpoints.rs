//! What a server offers, and which of it serves a connection.

use super::{
    dial::{Dial, URI, client, folder, within},
    settings::{Login, Path, Security, Settings},
};
use crate::LinkError;
use opcua::{
    crypto::SecurityPolicy,
    types::{ApplicationDescription, EndpointDescription, MessageSecurityMode, UserTokenType},
};

/// Endpoints that are looked at.
const MOST_ENDPOINTS: usize = 200;

/// Asks a server for its endpoints, the best first.
pub(super) async fn endpoints(dial: &Dial) -> Result<Vec<EndpointDescription>, LinkError> {
    let folder = folder()?;
    let client = client(&folder, URI, dial.timeout_ms, 0)?;
    let found = within(dial.timeout_ms, client.get_endpoints(dial.clone(), &[], &[])).await?;
    let mut found = found.map_err(|e| dial.error(e.status()))?;
    found.truncate(MOST_ENDPOINTS);
    found.retain(|e| e.transport_profile_uri.is_empty() || e.transport_profile_uri.as_ref().ends_with("uatcp-uasc-uabinary"));
    // Servers rate their endpoints themselves, and often all alike.
    let rank = |e: &EndpointDescription| Security::ALL.iter().position(|s| Some(*s) == security_of(e));
    found.sort_by_key(|e| (rank(e).unwrap_or(usize::MAX), std::cmp::Reverse(e.security_mode as i32)));
    Ok(found)
}

/// Asks a server which other servers it knows of: their names and addresses.
pub(super) async fn others(dial: &Dial) -> Result<Vec<(String, String)>, LinkError> {
    let folder = folder()?;
    let client = client(&folder, URI, dial.timeout_ms, 0)?;
    let found = within(dial.timeout_ms, client.find_servers(dial.clone(), None, None)).await?;
    let found = found.map_err(|e| dial.error(e.status()))?;
    Ok(known(found, &dial.target.url))
}

/// Servers beside the one at an address, with the first address of each that can be used.
fn known(found: Vec<ApplicationDescription>, url: &str) -> Vec<(String, String)> {
    let usable = |url: &String| Path { url: url.clone(), ..Path::default() }.target().is_ok();
    let server = |server: ApplicationDescription| {
        let urls = server.discovery_urls.unwrap_or_default();
        let url = urls.iter().map(|u| u.as_ref().to_owned()).find(usable)?;
        let name: String = server.application_name.text.as_ref().chars().filter(|c| !c.is_control()).take(60).collect();
        Some((if name.is_empty() { "a server".to_owned() } else { name }, url))
    };
    let plain = |url: &str| url.trim_end_matches('/').to_ascii_lowercase();
    let mut all: Vec<_> = found.into_iter().take(MOST_ENDPOINTS).filter_map(server).collect();
    // Most servers know only of themselves, often under a name that leads nowhere from here.
    let alone = all.len() <= 1;
    all.retain(|(_, other)| !alone && plain(other) != plain(url));
    all
}

/// How an endpoint secures messages; `None` where Havrel cannot.
pub(super) fn security_of(endpoint: &EndpointDescription) -> Option<Security> {
    let uri = endpoint.security_policy_uri.as_ref();
    Security::ALL.into_iter().find(|s| s.policy().to_uri() == uri && s.mode() == endpoint.security_mode)
}

/// The last part of the name of an endpoint's policy, with its mode.
pub(super) fn words_of(endpoint: &EndpointDescription) -> String {
    if let Some(security) = security_of(endpoint) {
        return security.words().to_owned();
    }
    let policy = endpoint.security_policy_uri.as_ref().rsplit('#').next().unwrap_or_default().to_owned();
    let mode = match endpoint.security_mode {
        MessageSecurityMode::Sign => "signed",
        MessageSecurityMode::SignAndEncrypt => "signed and encrypted",
        _ => "in clear",
    };
    format!("{mode}, {policy}")
}

/// What an endpoint asks of a login.
fn token_type(login: Login) -> UserTokenType {
    match login {
        Login::Anonymous => UserTokenType::Anonymous,
        Login::User => UserTokenType::UserName,
        Login::Certificate => UserTokenType::Certificate,
    }
}

/// Whether an endpoint takes a login.
pub(super) fn takes(endpoint: &EndpointDescription, login: Login) -> bool {
    // Without any policy of users only anonymous ones come in.
    match &endpoint.user_identity_tokens {
        None => login == Login::Anonymous,
        Some(tokens) => tokens.iter().any(|t| t.token_type == token_type(login)),
    }
}

/// The endpoint that the settings ask for.
///
/// # Errors
/// When the server has none such.
pub(super) fn choose(found: &[EndpointDescription], settings: &Settings) -> Result<EndpointDescription, LinkError> {
    let fit: Vec<_> = found.iter().filter(|e| security_of(e) == Some(settings.security)).collect();
    let best = fit.iter().find(|e| takes(e, settings.login)).or(fit.first());
    best.map(|e| (**e).clone()).ok_or_else(|| {
        let mut offered: Vec<String> = found.iter().map(words_of).collect();
        offered.dedup();
        LinkError::NoEndpoint(settings.security.words().to_owned(), offered.join("; "))
    })
}

/// Whether a password would go over the network as it is typed (OPC UA Part 4, 7.40.4).
pub(super) fn tells_password(endpoint: &EndpointDescription, login: Login) -> bool {
    let own = endpoint.user_identity_tokens.iter().flatten().find(|t| t.token_type == UserTokenType::UserName);
    let policy = match own.map(|t| t.security_policy_uri.as_ref()) {
        Some(uri) if !uri.is_empty() => SecurityPolicy::from_uri(uri),
        _ => SecurityPolicy::from_uri(endpoint.security_policy_uri.as_ref()),
    };
    login == Login::User && policy == SecurityPolicy::None && endpoint.security_mode != MessageSecurityMode::SignAndEncrypt
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::plant::Own;
    use opcua::types::UserTokenPolicy;
    use serde_json::json;

    fn endpoint(security: Security, tokens: Option<Vec<UserTokenType>>) -> EndpointDescription {
        let policy = |token_type| UserTokenPolicy { token_type, ..UserTokenPolicy::default() };
        EndpointDescription {
            security_policy_uri: security.policy().to_uri().into(),
            security_mode: security.mode(),
            user_identity_tokens: tokens.map(|all| all.into_iter().map(policy).collect()),
            ..EndpointDescription::default()
        }
    }

    fn settings() -> Settings {
        let own: Own = json!({"url": "opc.tcp://10.0.4.31"}).as_object().unwrap().clone();
        Settings::parse(&own).unwrap()
    }

    #[test]
    fn the_endpoint_that_takes_the_login_is_chosen() {
        let clear = |tokens| endpoint(Security::None, Some(tokens));
        let found = [clear(vec![UserTokenType::UserName]), clear(vec![UserTokenType::UserName, UserTokenType::Anonymous])];
        assert_eq!(choose(&found, &settings()).unwrap(), found[1]);
        assert!(takes(&endpoint(Security::None, None), Login::Anonymous) && !takes(&endpoint(Security::None, None), Login::User));
    }

    #[test]
    fn a_server_without_such_an_endpoint_is_told_with_what_it_offers() {
        let found = [endpoint(Security::Aes256Sha256RsaPssEncrypt, None), endpoint(Security::Basic256Sha256Sign, None)];
        let told = choose(&found, &settings()).unwrap_err().to_string();
        let offers = "signed and encrypted, Aes256_Sha256_RsaPss; signed, Basic256Sha256";
        assert_eq!(told, format!("The server has no endpoint for none, in clear. It offers: {offers}."));
    }

    #[test]
    fn other_servers_are_named_with_an_address_that_can_be_used() {
        let server = |name: &str, urls: &[&str]| ApplicationDescription {
            application_name: name.into(),
            discovery_urls: Some(urls.iter().map(|url| (*url).into()).collect()),
            ..ApplicationDescription::default()
        };
        let own = server("Directory", &["opc.tcp://10.0.4.31:4840/"]);
        assert_eq!(known(vec![own.clone()], "opc.tcp://10.0.4.99:4840"), [], "one alone is the server itself");
        let mill = server("Mill\u{7}", &["https://10.0.4.32", "opc.tcp://10.0.4.32:4841"]);
        let nameless = server("", &["opc.tcp://10.0.4.33"]);
        let found = vec![own, mill, nameless, server("Old", &["https://10.0.4.34"]), server("None", &[])];
        let expected = [("Mill", "opc.tcp://10.0.4.32:4841"), ("a server", "opc.tcp://10.0.4.33")];
        assert_eq!(known(found, "OPC.TCP://10.0.4.31:4840"), expected.map(|(name, url)| (name.to_owned(), url.to_owned())));
    }

    #[test]
    fn a_password_is_told_when_it_would_go_unprotected() {
        let user = |security: Security, policy: SecurityPolicy| {
            let mut endpoint = endpoint(security, Some(vec![UserTokenType::UserName]));
            if let Some(tokens) = &mut endpoint.user_identity_tokens {
                tokens[0].security_policy_uri = policy.to_uri().into();
            }
            tells_password(&endpoint, Login::User)
        };
        assert!(user(Security::None, SecurityPolicy::None));
        assert!(!user(Security::None, SecurityPolicy::Basic256Sha256), "the login has a policy of its own");
        assert!(
            user(Security::Basic256Sha256Sign, SecurityPolicy::None)
                && !user(Security::Basic256Sha256Encrypt, SecurityPolicy::None)
        );
        assert!(!tells_password(&endpoint(Security::None, None), Login::Anonymous));
    }

    #[test]
    fn a_policy_that_is_out_of_date_is_named_as_it_is() {
        let mut old = endpoint(Security::Basic256Sha256Sign, None);
        old.security_policy_uri = "http://opcfoundation.org/UA/SecurityPolicy#Basic128Rsa15".into();
        assert_eq!((security_of(&old), words_of(&old).as_str()), (None, "signed, Basic128Rsa15"));
    }
}
