//! How much is asked of the server at once: requests by whoever sends them, sign-ins by account and address, passwords hashed
//! at a time, heavy questions.

use crate::problem::Problem;
use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter, clock::Clock, clock::DefaultClock};
use std::{
    collections::HashMap,
    hash::Hash,
    net::IpAddr,
    num::NonZeroU32,
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::{Semaphore, SemaphorePermit};
use uuid::Uuid;

/// Whom a request counts for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Asker {
    Account(Uuid),
    Token(Uuid),
    /// Nobody that is known: by network address.
    Address(IpAddr),
}

/// Counters by whoever asks.
pub struct Limits {
    known: DefaultKeyedRateLimiter<Asker>,
    anonymous: DefaultKeyedRateLimiter<IpAddr>,
    sign_in: DefaultKeyedRateLimiter<IpAddr>,
    values: Mutex<HashMap<Uuid, (u32, DefaultKeyedRateLimiter<Uuid>)>>,
    failures: Mutex<HashMap<String, Failures>>,
    hashing: Semaphore,
    waiting: AtomicUsize,
    /// Questions that read much of history.
    heavy: Semaphore,
    heavy_waiting: AtomicUsize,
}

/// Wrong passwords of one account.
#[derive(Clone, Copy, Debug)]
struct Failures {
    count: u32,
    until: Instant,
}

/// Wrong passwords before somebody has to wait.
const FREE: u32 = 5;
/// The longest wait, so that nobody is locked out by somebody else for long.
const LONGEST: Duration = Duration::from_secs(60);
/// Accounts whose failures are remembered.
const REMEMBERED: usize = 10_000;
/// Passwords that wait to be hashed; one takes 19 MB and a tenth of a second.
const MOST_WAITING: usize = 16;
/// Heavy questions that wait for their turn, and how many are answered at a time.
const MOST_HEAVY_WAITING: usize = 32;
const HEAVY: usize = 2;
/// How long a heavy question may wait, and how long it may take.
const TURN: Duration = Duration::from_secs(20);

fn quota(second: u32, burst: u32) -> Quota {
    let of = |n: u32| NonZeroU32::new(n).unwrap_or(NonZeroU32::MIN);
    Quota::per_second(of(second)).allow_burst(of(burst))
}

impl Default for Limits {
    fn default() -> Limits {
        let of = |n: u32| NonZeroU32::new(n).unwrap_or(NonZeroU32::MIN);
        Limits {
            known: RateLimiter::keyed(quota(200, 1000)),
            anonymous: RateLimiter::keyed(quota(50, 500)),
            sign_in: RateLimiter::keyed(Quota::per_minute(of(12)).allow_burst(of(10))),
            values: Mutex::default(),
            failures: Mutex::default(),
            hashing: Semaphore::new(2),
            waiting: AtomicUsize::new(0),
            heavy: Semaphore::new(HEAVY),
            heavy_waiting: AtomicUsize::new(0),
        }
    }
}

fn check<K: Clone + Hash + Eq>(limiter: &DefaultKeyedRateLimiter<K>, key: &K) -> Result<(), Problem> {
    // Who has been quiet is forgotten, so that the table stays small.
    if limiter.len() > REMEMBERED {
        limiter.retain_recent();
    }
    limiter.check_key(key).map_err(|until| {
        let wait = until.wait_time_from(DefaultClock::default().now());
        Problem::too_many(wait.as_secs() + 1)
    })
}

/// Holds a place among those that wait.
struct Waiting<'a>(&'a AtomicUsize);

impl<'a> Waiting<'a> {
    fn enter(count: &'a AtomicUsize, most: usize) -> Result<Waiting<'a>, Problem> {
        let waiting = Waiting(count);
        if count.fetch_add(1, Ordering::Relaxed) >= most {
            return Err(Problem::busy());
        }
        Ok(waiting)
    }
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Limits {
    /// Counts a request.
    ///
    /// # Errors
    /// When there were too many.
    pub fn request(&self, asker: Asker) -> Result<(), Problem> {
        match asker {
            Asker::Address(address) => check(&self.anonymous, &address),
            known => check(&self.known, &known),
        }
    }

    /// Counts an attempt to sign in, or to make the first account.
    ///
    /// # Errors
    /// When there were too many from this address, or too many wrong passwords of this account.
    pub fn sign_in(&self, address: IpAddr, name: &str) -> Result<(), Problem> {
        let failures = self.failures.lock().unwrap_or_else(PoisonError::into_inner).get(&name.to_lowercase()).copied();
        let wait = failures.map_or(Duration::ZERO, |f| f.until.saturating_duration_since(Instant::now()));
        if !wait.is_zero() {
            return Err(Problem::too_many(wait.as_secs() + 1));
        }
        check(&self.sign_in, &address)
    }

    /// Notes how an attempt went. Waits grow with each wrong password, and end with the right one.
    pub fn signed_in(&self, name: &str, right: bool) {
        let mut all = self.failures.lock().unwrap_or_else(PoisonError::into_inner);
        let name = name.to_lowercase();
        if right {
            all.remove(&name);
            return;
        }
        let now = Instant::now();
        if all.len() >= REMEMBERED {
            all.retain(|_, f| f.until > now);
        }
        if all.len() >= REMEMBERED {
            return;
        }
        let failures = all.entry(name).or_insert(Failures { count: 0, until: now });
        failures.count = failures.count.saturating_add(1);
        failures.until = now + wait_after(failures.count);
    }

    /// Takes a turn to hash or check a password.
    ///
    /// # Errors
    /// At once when many wait already.
    pub async fn hashing(&self) -> Result<SemaphorePermit<'_>, Problem> {
        let _waiting = Waiting::enter(&self.waiting, MOST_WAITING)?;
        self.hashing.acquire().await.map_err(|_| Problem::busy())
    }

    /// Takes a turn for a question that reads much of history.
    ///
    /// # Errors
    /// When many wait already, or its turn does not come in time.
    pub async fn heavy(&self) -> Result<SemaphorePermit<'_>, Problem> {
        let _waiting = Waiting::enter(&self.heavy_waiting, MOST_HEAVY_WAITING)?;
        match tokio::time::timeout(TURN, self.heavy.acquire()).await {
            Ok(Ok(turn)) => Ok(turn),
            _ => Err(Problem::busy()),
        }
    }

    /// The same for work that goes on by itself and reads everything part by part: it waits for each turn as long as it takes.
    ///
    /// # Errors
    /// When the server is stopping.
    pub async fn patient(&self) -> Result<SemaphorePermit<'_>, Problem> {
        self.heavy.acquire().await.map_err(|_| Problem::busy())
    }

    /// Counts values that a token sends; `most` a second, and ten times as many at once.
    ///
    /// # Errors
    /// When there were too many.
    pub fn values(&self, token: Uuid, most: u32, count: u32) -> Result<(), Problem> {
        let Some(count) = NonZeroU32::new(count) else { return Ok(()) };
        let mut all = self.values.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= REMEMBERED {
            all.clear();
        }
        let made = |most| (most, RateLimiter::keyed(quota(most, most.saturating_mul(10))));
        let entry = all.entry(token).or_insert_with(|| made(most));
        if entry.0 != most {
            *entry = made(most);
        }
        match entry.1.check_key_n(&token, count) {
            Ok(Ok(())) => Ok(()),
            Ok(Err(until)) => Err(Problem::too_many(until.wait_time_from(DefaultClock::default().now()).as_secs() + 1)),
            // More than may come at once at all.
            Err(_) => Err(Problem::too_many(10)),
        }
    }
}

/// How long to wait after so many wrong passwords: nothing at first, then 1, 2, 4 … seconds.
fn wait_after(failures: u32) -> Duration {
    match failures.checked_sub(FREE) {
        None => Duration::ZERO,
        Some(beyond) => Duration::from_secs(1 << beyond.min(16)).min(LONGEST),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const HERE: IpAddr = IpAddr::V4(std::net::Ipv4Addr::LOCALHOST);

    #[rstest]
    #[case(1, 0)]
    #[case(4, 0)]
    #[case(5, 1)]
    #[case(8, 8)]
    #[case(30, 60)]
    #[case(u32::MAX, 60)]
    fn waits_grow(#[case] failures: u32, #[case] seconds: u64) {
        assert_eq!(wait_after(failures).as_secs(), seconds);
    }

    #[test]
    fn wrong_passwords_of_one_account_hold_up_no_other() {
        let limits = Limits::default();
        (0..6).for_each(|_| limits.signed_in("Keeper", false));
        assert_eq!(limits.sign_in(HERE, "keeper").unwrap_err().status, 429);
        assert!(limits.sign_in(HERE, "Shift lead").is_ok());
        limits.signed_in("KEEPER", true);
        assert!(limits.sign_in(HERE, "Keeper").is_ok());
    }

    #[test]
    fn whoever_is_known_has_a_count_of_their_own() {
        let limits = Limits::default();
        while limits.request(Asker::Address(HERE)).is_ok() {}
        assert!(limits.request(Asker::Account(Uuid::from_u128(1))).is_ok());
        assert!(limits.request(Asker::Token(Uuid::from_u128(1))).is_ok());
    }

    #[test]
    fn a_token_sends_no_more_than_it_may() {
        let limits = Limits::default();
        let token = Uuid::from_u128(1);
        assert!(limits.values(token, 100, 900).is_ok());
        assert_eq!(limits.values(token, 100, 900).unwrap_err().status, 429);
        assert!(limits.values(Uuid::from_u128(2), 100, 900).is_ok());
    }

    #[tokio::test]
    async fn passwords_that_wait_are_few() {
        let limits = Limits::default();
        let taken = [limits.hashing().await.unwrap(), limits.hashing().await.unwrap()];
        let waiting: Vec<_> = (0..MOST_WAITING).map(|_| Waiting::enter(&limits.waiting, MOST_WAITING).unwrap()).collect();
        assert_eq!(limits.hashing().await.unwrap_err().status, 503);
        drop((taken, waiting));
        assert!(limits.hashing().await.is_ok());
    }
}
