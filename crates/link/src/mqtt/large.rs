//! Messages that are too large to be read end the session before their topic is known. One that a broker retains comes again with every
//! session, so its filter is looked for: those asked for shortly before are suspected, and halved from session to session, until one is
//! left, which is not listened to for a while. Without a socket: time comes in.

use std::{
    collections::{HashSet, VecDeque},
    time::Duration,
};
use tokio::time::Instant;

/// How long a broker takes to give what it retains, after it was asked for a filter.
const GIVES: Duration = Duration::from_secs(3);
/// How long a filter is not listened to.
pub(super) const PAUSE: Duration = Duration::from_secs(600);

/// Filters that were asked for a short time before.
#[derive(Debug, Default)]
pub(super) struct Fresh(VecDeque<(Instant, Vec<String>)>);

impl Fresh {
    pub fn add(&mut self, filters: &[String], at: Instant) {
        self.0.retain(|(asked, _)| *asked + GIVES > at);
        self.0.push_back((at, filters.to_vec()));
    }

    /// Those on which something that is retained may still come.
    pub fn all(&self, at: Instant) -> Vec<String> {
        self.0.iter().filter(|(asked, _)| *asked + GIVES > at).flat_map(|(_, filters)| filters.clone()).collect()
    }
}

/// What is known of messages that are too large, over all sessions.
#[derive(Debug, Default)]
pub(super) struct Large {
    suspects: HashSet<String>,
    paused: Vec<(String, Instant)>,
}

impl Large {
    /// A message was too large, shortly after these filters were asked for. Whether some of them were suspected already, and fewer
    /// are now, so that the next session is to begin at once.
    pub fn met(&mut self, fresh: Vec<String>, at: Instant) -> bool {
        let before = self.suspects.len();
        match &fresh[..] {
            // It came by itself, and does not come again with the next session.
            [] => return false,
            [one] => {
                self.paused.push((one.clone(), at + PAUSE));
                self.suspects.clear();
            }
            _ => self.suspects = fresh.into_iter().collect(),
        }
        self.suspects.len() < before
    }

    /// All filters were asked for, and nothing too large came: nobody is suspected any more.
    pub fn all_well(&mut self) {
        self.suspects.clear();
    }

    /// The filters whose time is over: they are listened to again.
    pub fn over(&mut self, at: Instant) -> Vec<String> {
        let (waiting, over): (Vec<_>, Vec<_>) = std::mem::take(&mut self.paused).into_iter().partition(|(_, until)| *until > at);
        self.paused = waiting;
        over.into_iter().map(|(filter, _)| filter).collect()
    }

    /// The first filter that is not listened to at present.
    pub fn paused(&self, at: Instant) -> Option<&str> {
        self.paused.iter().find(|(_, until)| *until > at).map(|(filter, _)| filter.as_str())
    }

    /// The filters in the order in which they are to be asked for, suspected ones last; and those that are left out.
    pub fn in_order(&mut self, wanted: Vec<String>, at: Instant) -> (Vec<String>, Vec<String>) {
        self.paused.retain(|(_, until)| *until > at);
        self.suspects.retain(|filter| wanted.contains(filter));
        let (left_out, mut wanted): (Vec<_>, Vec<_>) =
            wanted.into_iter().partition(|filter| self.paused.iter().any(|(paused, _)| paused == filter));
        wanted.sort_by_key(|filter| self.suspects.contains(filter));
        (wanted, left_out)
    }

    /// Whether the next filters may be asked for: before and between suspected ones the broker gets time to give what it retains.
    pub fn lets_go_on(&self, wanted: &VecDeque<String>, fresh: &Fresh, at: Instant) -> bool {
        wanted.front().is_none_or(|next| !self.suspects.contains(next)) || fresh.all(at).is_empty()
    }

    /// How many of the next filters are asked for at once, of so many that could be: of suspected ones half, and no others with them.
    pub fn most(&self, wanted: &VecDeque<String>, count: usize) -> usize {
        match wanted.iter().position(|filter| self.suspects.contains(filter)) {
            Some(0) => count.min(self.suspects.len().div_ceil(2)),
            Some(first) => count.min(first),
            None => count,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Sessions until the filter on which a message is too large is found.
    fn sessions(count: usize, bad: usize) -> usize {
        let filters: Vec<String> = (0..count).map(|n| format!("t/{n}")).collect();
        let (mut large, mut at) = (Large::default(), Instant::now());
        for session in 0..50 {
            let (wanted, left_out) = large.in_order(filters.clone(), at);
            if !left_out.is_empty() {
                assert_eq!(left_out, [format!("t/{bad}")]);
                return session;
            }
            let (mut wanted, mut fresh): (VecDeque<String>, Fresh) = (wanted.into(), Fresh::default());
            while !wanted.is_empty() {
                if !large.lets_go_on(&wanted, &fresh, at) {
                    at += Duration::from_secs(1);
                    continue;
                }
                let next: Vec<String> = wanted.drain(..large.most(&wanted, wanted.len().min(100))).collect();
                fresh.add(&next, at);
                if next.contains(&format!("t/{bad}")) {
                    let known = !large.suspects.is_empty();
                    assert_eq!(large.met(fresh.all(at), at), known, "each session tells more than the one before");
                    break;
                }
            }
        }
        panic!("it is never found");
    }

    #[rstest]
    #[case(1, 0)]
    #[case(2, 1)]
    #[case(3, 0)]
    #[case(250, 249)]
    #[case(1000, 512)]
    fn the_filter_is_found_in_a_few_sessions(#[case] count: usize, #[case] bad: usize) {
        let needed = sessions(count, bad);
        assert!(needed <= 13, "{needed}");
    }

    #[test]
    fn what_came_by_itself_suspects_nobody() {
        let mut large = Large::default();
        assert!(!large.met(Vec::new(), Instant::now()));
        let (wanted, left_out) = large.in_order(vec!["a".into(), "b".into()], Instant::now());
        assert_eq!((wanted.len(), left_out.len(), large.paused(Instant::now())), (2, 0, None));
    }

    #[test]
    fn a_filter_is_listened_to_again_after_a_while() {
        let (mut large, at) = (Large::default(), Instant::now());
        large.met(vec!["a".into()], at);
        assert_eq!((large.over(at), large.paused(at)), (Vec::new(), Some("a")));
        assert_eq!((large.over(at + PAUSE), large.paused(at)), (vec!["a".to_owned()], None));
    }
}
