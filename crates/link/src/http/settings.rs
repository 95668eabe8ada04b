//! A connection's settings and a tag's point, read and checked.

pub use crate::net::Path;
use crate::{
    LinkError,
    net::check_paths,
    payload::{FIELDS, Taken},
    tls::Tls,
};
use havrel_core::plant::{Own, Secret, resolve};
use hyper::header::{HeaderName, HeaderValue};
use serde::Deserialize;

/// Largest answer that may be allowed, in bytes.
const MOST_ANSWER: u32 = 64 << 20;
/// Most requests of a connection, and headers.
const MOST_REQUESTS: usize = 100;
const MOST_HEADERS: usize = 20;
/// Longest path, text of a header, and body, in bytes.
const LONGEST: usize = 2000;
const MOST_BODY: usize = 64 << 10;

/// What carries the requests.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Scheme {
    #[default]
    Http,
    Https,
}

impl Scheme {
    pub const fn name(self) -> &'static str {
        match self {
            Scheme::Http => "http",
            Scheme::Https => "https",
        }
    }

    /// The usual port (IANA).
    pub const fn port(self) -> u16 {
        match self {
            Scheme::Http => 80,
            Scheme::Https => 443,
        }
    }
}

/// How Havrel says who it is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Login {
    #[default]
    None,
    /// User and password (RFC 7617).
    Basic,
    /// A token (RFC 6750).
    Bearer,
    /// A header whose name the program says.
    Header,
}

/// What is asked with.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
pub enum Method {
    #[default]
    Get,
    Post,
}

impl Method {
    pub const fn name(self) -> &'static str {
        match self {
            Method::Get => "GET",
            Method::Post => "POST",
        }
    }
}

/// What is asked for.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Request {
    /// What follows the path of the connection: `/weather?station=3`.
    pub path: String,
    pub method: Method,
    /// Sent with POST.
    pub body: String,
}

/// A header that is sent with each request.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Header {
    pub name: String,
    pub value: String,
}

/// A connection's settings.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Settings {
    pub scheme: Scheme,
    pub host: String,
    pub port: Option<u16>,
    /// What stands before the path of every request.
    pub path: String,
    pub requests: Vec<Request>,
    pub login: Login,
    pub user: String,
    pub header: String,
    /// The password, the token, or what the header says.
    pub secret: Option<Secret>,
    pub headers: Vec<Header>,
    pub tls: Tls,
    /// The name for which the program’s certificate was issued, where it is another one than the host.
    pub server_name: String,
    /// Whether an answer may send on to another host.
    pub elsewhere: bool,
    /// Largest answer that is taken, in bytes.
    pub largest: u32,
    pub spare: Vec<Path>,
    /// Whether a spare address takes over by itself when the one in use fails.
    pub takeover: bool,
}

impl Default for Settings {
    fn default() -> Settings {
        Settings {
            scheme: Scheme::Http,
            host: String::new(),
            port: None,
            path: String::new(),
            requests: Vec::new(),
            login: Login::None,
            user: String::new(),
            header: String::new(),
            secret: None,
            headers: Vec::new(),
            tls: Tls::default(),
            server_name: String::new(),
            elsewhere: false,
            largest: 1 << 20,
            spare: Vec::new(),
            takeover: true,
        }
    }
}

/// What is wrong with a path, if anything. Letters beyond ASCII are written with % (RFC 3986).
fn wrong_path(path: &str) -> bool {
    let begins = path.is_empty() || path.starts_with(['/', '?']);
    !begins || path.len() > LONGEST || !path.chars().all(|c| c.is_ascii_graphic() && c != '#')
}

const PATH: &str = "Enter a path such as /weather?station=3; letters beyond ASCII are written with %.";
/// Headers that the connection itself sends.
const OWN: [&str; 7] =
    ["host", "content-length", "transfer-encoding", "connection", "upgrade", "if-none-match", "if-modified-since"];

impl Settings {
    /// Reads a connection's settings.
    ///
    /// # Errors
    /// Every field that is wrong, with a sentence.
    pub fn parse(own: &Own) -> Result<Settings, Vec<(String, String)>> {
        let settings: Settings = resolve(None, own).map_err(|wrong| vec![wrong])?;
        let mut wrong = check_paths(&settings.paths(), "program");
        let mut say = |bad: bool, field: &str, words: &str| {
            if bad {
                wrong.push((field.into(), words.into()));
            }
        };
        say(wrong_path(&settings.path) || settings.path.contains('?'), "path", "Enter a path such as /api, or nothing.");
        say(settings.requests.len() > MOST_REQUESTS, "requests", "A connection has at most 100 requests.");
        for (i, request) in settings.requests.iter().enumerate().take(MOST_REQUESTS) {
            let again = settings.requests[..i].iter().any(|other| other.path == request.path);
            say(wrong_path(&request.path), &format!("requests[{i}].path"), PATH);
            say(again, &format!("requests[{i}].path"), "Another request has this path.");
            let body = format!("requests[{i}].body");
            say(request.body.len() > MOST_BODY, &body, "A body has at most 64 KiB.");
            say(request.method == Method::Get && !request.body.is_empty(), &body, "Only POST sends a body.");
        }
        let missing = settings.secret.is_none();
        match settings.login {
            Login::None => {}
            Login::Basic => {
                let odd = settings.user.trim().is_empty() || settings.user.contains(':') || settings.user.len() > 1000;
                say(odd, "user", "Enter the name of the user, without a colon.");
                say(missing, "secret", "Enter the password.");
            }
            Login::Bearer => say(missing, "secret", "Enter the token."),
            Login::Header => {
                let odd = HeaderName::try_from(settings.header.trim()).is_err() || own_header(&settings.header);
                say(odd, "header", "Enter the name of the header, such as X-Api-Key.");
                say(missing, "secret", "Enter what the header says.");
            }
        }
        say(settings.headers.len() > MOST_HEADERS, "headers", "At most 20 headers are sent.");
        for (i, header) in settings.headers.iter().enumerate().take(MOST_HEADERS) {
            let name = header.name.trim();
            say(HeaderName::try_from(name).is_err(), &format!("headers[{i}].name"), "This is no name of a header.");
            say(own_header(name), &format!("headers[{i}].name"), "Havrel sends this header itself.");
            let odd = header.value.len() > LONGEST || HeaderValue::try_from(header.value.as_str()).is_err();
            say(odd, &format!("headers[{i}].value"), "Enter one line of at most 2,000 bytes.");
        }
        let sized = (1024..=MOST_ANSWER).contains(&settings.largest);
        say(!sized, "largest", "Enter between 1,024 bytes and 64 MiB (67108864).");
        say(settings.spare.len() > 3, "spare", "There are at most three spare addresses.");
        if settings.scheme == Scheme::Https {
            wrong.extend(settings.tls.check().into_iter().map(|(field, words)| (format!("tls.{field}"), words.to_owned())));
        }
        if wrong.is_empty() { Ok(settings) } else { Err(wrong) }
    }

    /// The settings with which a connection can be made at all.
    pub(crate) fn usable(own: &Own) -> Result<Settings, LinkError> {
        Settings::parse(own).map_err(|wrong| LinkError::BadRequest(wrong[0].1.clone()))
    }

    /// Every address, the first before the spare ones.
    pub fn paths(&self) -> Vec<Path> {
        let first = Path { host: self.host.clone(), port: self.port };
        [first].into_iter().chain(self.spare.iter().cloned()).collect()
    }

    /// The port at an address.
    pub fn port_of(&self, path: &Path) -> u16 {
        path.port.unwrap_or(self.scheme.port())
    }

    /// Host and port as a URL writes them.
    pub fn authority(&self, path: &Path) -> String {
        let host = path.host.trim();
        let host = if host.contains(':') && !host.starts_with('[') { format!("[{host}]") } else { host.to_owned() };
        match self.port_of(path) {
            port if port == self.scheme.port() => host,
            port => format!("{host}:{port}"),
        }
    }

    /// An address as people write it.
    pub fn show(&self, path: &Path) -> String {
        format!("{}://{}{}", self.scheme.name(), self.authority(path), self.path)
    }

    /// What is asked for with a path: as the settings say, otherwise GET.
    pub fn request(&self, path: &str) -> Request {
        let known = self.requests.iter().find(|request| request.path == path);
        known.cloned().unwrap_or_else(|| Request { path: path.to_owned(), ..Request::default() })
    }
}

fn own_header(name: &str) -> bool {
    OWN.iter().any(|own| name.trim().eq_ignore_ascii_case(own))
}

#[derive(Clone, Debug, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Text {
    path: String,
}

/// What a tag is read from.
#[derive(Clone, Debug, PartialEq)]
pub struct Point {
    pub path: String,
    pub taken: Taken,
}

impl Point {
    /// Reads a point's fields.
    ///
    /// # Errors
    /// The field and a sentence.
    pub fn parse(own: &Own) -> Result<Point, (String, String)> {
        let taken = Taken::parse(own)?;
        let others = own.iter().filter(|(key, _)| *key == "silent_s" || !FIELDS.contains(&key.as_str()));
        let text: Text = resolve(None, &others.map(|(key, value)| (key.clone(), value.clone())).collect())?;
        if wrong_path(&text.path) {
            return Err(("path".into(), PATH.into()));
        }
        Ok(Point { path: text.path, taken })
    }

    /// In words.
    pub fn show(&self) -> String {
        let path = if self.path.is_empty() { "/" } else { &self.path };
        match self.taken.words() {
            words if words.is_empty() => path.to_owned(),
            words => format!("{path}, {words}"),
        }
    }
}
