//! The command `account`: for whoever keeps the machine and forgot a password, or has to let somebody in or out while no page can
//! be reached.

use crate::{DataPlace, Result, backup, say};
use clap::Subcommand;
use havrel_core::{access::Role, text};
use havrel_db::{
    Db,
    people::{AccountChange, Unchanged},
};
use havrel_server::{auth, sessions};
use std::io::{self, BufRead, IsTerminal};
use uuid::Uuid;

/// What to do with accounts.
#[derive(Subcommand)]
pub enum What {
    /// Lists the accounts.
    List,
    /// Adds an account; the password is asked for, or read from standard input.
    Add {
        name: String,
        /// viewer, operator or engineer.
        #[arg(long)]
        role: String,
    },
    /// Gives an account another role.
    Role {
        name: String,
        /// viewer, operator or engineer.
        role: String,
    },
    /// Sets a new password, which is asked for or read from standard input, and ends the account's sessions.
    Password { name: String },
    /// Lets nobody sign in with the account any more, and ends its sessions.
    Disable { name: String },
    /// Lets somebody sign in with the account again.
    Enable { name: String },
    /// Ends every session of the account.
    SignOut { name: String },
    /// Makes a new one-time code for the first account.
    Code,
}

/// Carries it out, also while the plant runs.
pub async fn run(place: &DataPlace, what: What) -> Result<()> {
    let (database, _started) = backup::find_existing(place).await?;
    let db = Db::open(database.connect()).await?;
    match what {
        What::List => {
            for a in db.accounts().await? {
                let state = if a.disabled { "disabled" } else { "enabled" };
                println!("{}\t{}\t{state}\t{} sessions", a.name, a.role.name(), a.sessions);
            }
        }
        What::Add { name, role } => {
            if !text::is_visible(&name) || text::wrong(&name, false).is_some() || name.chars().count() > 80 {
                return Err("a name has 1 to 80 characters that can be seen".into());
            }
            let password = new_password()?;
            let made = db.add_account(name.trim(), role_of(&role)?, &password).await?;
            made.ok_or_else(|| format!("there is already an account “{name}”"))?;
            say(&format!("account “{name}” created"));
        }
        What::Role { name, role } => {
            let role = Some(role_of(&role)?);
            change(&db, &name, AccountChange { role, ..AccountChange::default() }).await?;
        }
        What::Password { name } => {
            let id = find(&db, &name).await?;
            let password = Some(new_password()?);
            changed(db.change_account(id, &AccountChange { password, ..AccountChange::default() }).await?)?;
        }
        What::Disable { name } => change(&db, &name, AccountChange { disabled: Some(true), ..AccountChange::default() }).await?,
        What::Enable { name } => change(&db, &name, AccountChange { disabled: Some(false), ..AccountChange::default() }).await?,
        What::SignOut { name } => {
            let id = find(&db, &name).await?;
            say(&format!("{} sessions ended", db.end_sessions(id, None).await?));
        }
        What::Code => {
            let code = sessions::code();
            if !db.set_setup_code(&sessions::hash(&code)).await? {
                return Err("there is an account already; the code is only for the first one".into());
            }
            println!("{code}");
        }
    }
    db.close().await;
    Ok(())
}

fn role_of(name: &str) -> Result<Role> {
    Role::from_name(name).ok_or_else(|| "a role is viewer, operator or engineer".into())
}

async fn find(db: &Db, name: &str) -> Result<Uuid> {
    let all = db.accounts().await?;
    let found = all.into_iter().find(|a| a.name.to_lowercase() == name.to_lowercase());
    found.map(|a| a.id).ok_or_else(|| format!("there is no account “{name}”").into())
}

async fn change(db: &Db, name: &str, change: AccountChange) -> Result<()> {
    changed(db.change_account(find(db, name).await?, &change).await?)
}

fn changed(result: std::result::Result<String, Unchanged>) -> Result<()> {
    match result {
        Ok(name) => {
            say(&format!("account “{name}” is changed; a running Havrel follows within ten seconds"));
            Ok(())
        }
        Err(Unchanged::LastEngineer) => Err("this is the last engineer; make somebody else one first".into()),
        Err(_) => Err("the account is gone".into()),
    }
}

/// The hash of a new password.
fn new_password() -> Result<String> {
    let password = if io::stdin().is_terminal() {
        rpassword::prompt_password("New password: ")?
    } else {
        io::stdin().lock().lines().next().ok_or("the password is missing on standard input")??
    };
    auth::check_password(&password).map_err(|problem| problem.detail)?;
    Ok(auth::hash_now(&password).ok_or("the password could not be kept")?)
}
