//! What leaves in one session: values that somebody writes, messages by hand, and those that wait in the connection's queue. Each is
//! followed until the broker has confirmed it.

use super::client::{Given, Session};
use crate::{
    LinkError,
    runner::{Outgoing, Reply},
};
use havrel_core::{publish::Message, sample::Value};
use std::{
    collections::{HashMap, VecDeque},
    time::Duration,
};
use tokio::time::Instant;

/// Messages handed to the library and not sent yet; it holds a few more, which are left to other requests.
const MOST_HANDED: usize = 8;
/// Messages under way at once.
const MOST_UNDER_WAY: usize = 200;
/// After so many refused messages of quality of service 2 the session is opened anew: the library counts them as under way for ever.
const MOST_STRANDED: usize = 10;

/// Who waits for a confirmation.
enum Waits {
    /// Somebody who writes a value, and when it began. Nobody waits any more once it took too long.
    Write(Value, Option<Reply<Value>>, Instant),
    /// Somebody who sends a message by hand.
    Hand(Option<Reply<()>>, Instant),
    /// A message of the queue, by its number.
    Queue(u64),
}

impl Waits {
    fn began(&self) -> Option<Instant> {
        match self {
            Waits::Write(_, Some(_), began) | Waits::Hand(Some(_), began) => Some(*began),
            _ => None,
        }
    }

    /// Answers whoever asked, who may have gone away meanwhile.
    fn answer(&mut self, answer: Result<(), LinkError>) {
        match self {
            Waits::Write(value, reply, _) => {
                if let Some(reply) = reply.take() {
                    let _ = reply.send(answer.map(|()| value.clone()));
                }
            }
            Waits::Hand(reply, _) => {
                if let Some(reply) = reply.take() {
                    let _ = reply.send(answer);
                }
            }
            Waits::Queue(_) => {}
        }
    }
}

/// What is under way in a session.
#[derive(Default)]
pub(super) struct Sending {
    /// Handed to the library, oldest first; it sends them in this order.
    handed: VecDeque<(Waits, u8)>,
    /// Sent and not confirmed, by the number that the protocol gives them.
    unconfirmed: HashMap<u16, (Waits, u8)>,
    /// A message of the queue that found no room.
    held: Option<(u64, Message)>,
    stranded: usize,
}

impl Sending {
    /// Writes a value: a message of quality of service 1.
    pub fn write(&mut self, session: &Session, topic: &str, payload: Vec<u8>, retain: bool, value: Value, reply: Reply<Value>) {
        self.hand_over(session, topic, payload, (1, retain), Waits::Write(value, Some(reply), Instant::now()));
    }

    /// Sends a message by hand.
    pub fn by_hand(&mut self, session: &Session, message: Message, reply: Reply<()>) {
        let Message { topic, payload, qos, retain, .. } = message;
        self.hand_over(session, &topic, payload, (qos, retain), Waits::Hand(Some(reply), Instant::now()));
    }

    /// Hands a message for which somebody waits to the library, or answers at once why that is not possible.
    fn hand_over(&mut self, session: &Session, topic: &str, payload: Vec<u8>, (qos, retain): (u8, bool), mut waits: Waits) {
        match session.publish(topic, payload, qos, retain) {
            Given::Taken => self.handed.push_back((waits, qos)),
            Given::Full => waits.answer(Err(LinkError::Busy)),
            Given::Refused(error) => waits.answer(Err(error)),
        }
    }

    /// Sends of the queue what there is room for.
    pub fn go_on(&mut self, session: &Session, queue: &dyn Outgoing) {
        while self.handed.len() < MOST_HANDED && self.handed.len() + self.unconfirmed.len() < MOST_UNDER_WAY {
            let Some((number, message)) = self.held.take().or_else(|| queue.next(1).pop()) else { return };
            match session.publish(&message.topic, message.payload.clone(), message.qos, message.retain) {
                Given::Taken => self.handed.push_back((Waits::Queue(number), message.qos)),
                Given::Full => {
                    self.held = Some((number, message));
                    return;
                }
                Given::Refused(error) => queue.done(number, Err(error)),
            }
        }
    }

    /// The oldest that was handed over is on its way under this number; 0 where no confirmation comes (quality of service 0).
    pub fn sent(&mut self, number: u16, queue: &dyn Outgoing) {
        let Some(mut next) = self.handed.pop_front() else { return };
        if number > 0 {
            self.unconfirmed.insert(number, next);
        } else if let Waits::Queue(number) = next.0 {
            queue.done(number, Ok(()));
        } else {
            next.0.answer(Ok(()));
        }
    }

    /// The broker confirmed or refused one. How long it took, where somebody waits for it.
    pub fn confirmed(&mut self, number: u16, answer: Result<(), LinkError>, queue: &dyn Outgoing) -> Option<Duration> {
        let (mut waits, qos) = self.unconfirmed.remove(&number)?;
        if qos == 2 && answer.is_err() {
            self.stranded += 1;
        }
        let took = waits.began().map(|began| began.elapsed());
        match waits {
            Waits::Queue(number) => queue.done(number, answer),
            _ => waits.answer(answer),
        }
        took
    }

    /// The session must be opened anew for messages to go on.
    pub fn stuck(&self) -> bool {
        self.stranded >= MOST_STRANDED
    }

    fn all(&mut self) -> impl Iterator<Item = &mut Waits> {
        self.handed.iter_mut().chain(self.unconfirmed.values_mut()).map(|(waits, _)| waits)
    }

    /// Nobody waits longer than this.
    pub fn tire(&mut self, late: Duration, timeout_ms: u32) {
        for waits in self.all().filter(|waits| waits.began().is_some_and(|began| began.elapsed() > late)) {
            waits.answer(Err(LinkError::Silent(timeout_ms)));
        }
    }

    /// The session is over.
    pub fn over(&mut self, error: &LinkError) {
        self.all().for_each(|waits| waits.answer(Err(error.clone())));
    }
}
