//! How one database of a server is reached, by Havrel and by PostgreSQL's own programs.

use sqlx::postgres::{PgConnectOptions, PgSslMode};

/// Where a database is.
#[derive(Clone)]
pub struct Place {
    pub host: String,
    pub port: u16,
    pub user: String,
    pub password: String,
    pub database: String,
    /// What else the address sets, such as `sslmode` and `sslrootcert`.
    pub settings: Vec<(String, String)>,
}

impl Place {
    /// How to connect to it.
    pub fn connect(&self) -> PgConnectOptions {
        self.options(&self.database)
    }

    pub(crate) fn options(&self, database: &str) -> PgConnectOptions {
        let options = PgConnectOptions::new_without_pgpass()
            .host(&self.host)
            .port(self.port)
            .username(&self.user)
            .password(&self.password)
            .database(database);
        self.settings.iter().fold(options, |options, (name, value)| match name.as_str() {
            "sslmode" => options.ssl_mode(value.parse().unwrap_or(PgSslMode::VerifyFull)),
            "sslrootcert" => options.ssl_root_cert(value),
            "sslcert" => options.ssl_client_cert(value),
            "sslkey" => options.ssl_client_key(value),
            "application_name" => options.application_name(value),
            _ => options,
        })
    }
}
