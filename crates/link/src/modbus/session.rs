//! One open connection: one request at a time, each with a time limit, each failure with its own name.

use super::{
    Address, Encoded, Settings, Table,
    learnt::Learnt,
    settings::{Path, Transport},
    wire::{Ear, Listening, Wire, open},
};
use crate::{
    LinkError, now, tls,
    traffic::{Exchange, Tap},
};
use std::{io, sync::Arc, time::Duration};
use tokio::time::{Instant, sleep_until, timeout};
use tokio_modbus::{
    Error, ExceptionCode, ProtocolError, Request, Response,
    client::{Client as _, Context as Modbus, rtu, tcp},
    slave::{Slave, SlaveContext as _},
};

/// A connection that the device closes so soon after an answer was not closed for being idle.
const SOON: Duration = Duration::from_secs(2);

/// How a session speaks, and over what.
#[derive(Clone)]
pub struct Route {
    pub settings: Settings,
    pub path: Path,
    pub timeout_ms: u32,
    pub tap: Tap,
    pub learnt: Arc<Learnt>,
}

/// An open connection.
pub struct Session {
    route: Route,
    context: Modbus,
    ear: Ear,
    /// When the next request may leave at the earliest.
    free: Instant,
    /// How many requests were answered over this connection, and when the last one.
    answers: u32,
    answered: Instant,
    /// Whether the device closed the connection soon after an answer.
    cut: bool,
    /// Duration of the last request.
    pub took_us: u64,
}

impl Session {
    /// Opens the connection that a way describes.
    ///
    /// # Errors
    /// In words that say what to do.
    pub async fn open(route: Route) -> Result<Session, LinkError> {
        let stream = open(&route.settings, &route.path, route.timeout_ms).await?;
        Ok(Session::over(stream, route))
    }

    /// Speaks over a stream that is open already.
    pub(super) fn over(stream: Box<dyn Wire>, route: Route) -> Session {
        let ear = Ear::default();
        let (listening, slave) = (Listening { stream, ear: ear.clone() }, Slave(route.settings.unit));
        let context = match route.settings.transport {
            Transport::Tcp | Transport::Tls => tcp::attach_slave(listening, slave),
            Transport::RtuOverTcp | Transport::Serial => rtu::attach_slave(listening, slave),
        };
        Session { route, context, ear, free: Instant::now(), answers: 0, answered: Instant::now(), cut: false, took_us: 0 }
    }

    /// Begins anew on the same way, so that an answer which comes late belongs to nobody.
    ///
    /// # Errors
    /// When the way cannot be opened any more.
    pub async fn reopen(&mut self) -> Result<(), LinkError> {
        // The other side may be gone already; there is nothing to mend. A serial line must be free before it opens again.
        let _ = self.context.disconnect().await;
        let (free, cut) = (self.free, self.cut);
        *self = Session { free, cut, ..Session::open(self.route.clone()).await? };
        Ok(())
    }

    /// Whether nothing was answered over it yet.
    pub fn is_fresh(&self) -> bool {
        self.answers == 0
    }

    /// Whether the device closed the connection soon after an answer, since this was asked last.
    pub fn take_cut(&mut self) -> bool {
        std::mem::take(&mut self.cut)
    }

    /// Ends it in good order.
    pub async fn close(mut self) {
        let _ = self.context.disconnect().await;
    }

    /// Reads `count` registers, or bits as 0 and 1 (function codes 1 to 4).
    ///
    /// # Errors
    /// When the device refuses, answers wrongly or not at all.
    pub async fn read(&mut self, unit: u8, at: Address, count: u16) -> Result<Vec<u16>, LinkError> {
        let request = match at.table {
            Table::Coil => Request::ReadCoils(at.offset, count),
            Table::Discrete => Request::ReadDiscreteInputs(at.offset, count),
            Table::Input => Request::ReadInputRegisters(at.offset, count),
            Table::Holding => Request::ReadHoldingRegisters(at.offset, count),
        };
        let wanted = usize::from(count);
        let few = |what: &str, came: usize| Err(LinkError::WrongAnswer(format!("{count} {what} were asked for, {came} came")));
        match self.call(unit, request, at).await? {
            // Bits travel in whole bytes, so more than asked may come.
            Response::ReadCoils(bits) | Response::ReadDiscreteInputs(bits) if bits.len() >= wanted => {
                Ok(bits.into_iter().take(wanted).map(u16::from).collect())
            }
            Response::ReadCoils(bits) | Response::ReadDiscreteInputs(bits) => few("bits", bits.len()),
            Response::ReadInputRegisters(words) | Response::ReadHoldingRegisters(words) if words.len() == wanted => Ok(words),
            Response::ReadInputRegisters(words) | Response::ReadHoldingRegisters(words) => few("registers", words.len()),
            _ => Err(LinkError::WrongAnswer("it is of another kind".into())),
        }
    }

    /// Writes registers or one coil by the functions that the settings allow (codes 5, 6, 15, 16, 22 and 23) and the device
    /// knows. Gives the registers where the device answers with them (23).
    ///
    /// # Errors
    /// When no allowed function can do it, or the device refuses.
    pub async fn write(&mut self, unit: u8, at: Address, what: &Encoded) -> Result<Option<Vec<u16>>, LinkError> {
        let allows = |code: u8| self.route.settings.writes.contains(&code);
        let none =
            |what: &str| LinkError::BadRequest(format!("The settings of the connection allow no function that writes {what}."));
        let request = match (at.table, what) {
            (Table::Coil, Encoded::Words(bits)) if allows(5) => Request::WriteSingleCoil(at.offset, bits.first() != Some(&0)),
            (Table::Coil, Encoded::Words(bits)) if allows(15) => {
                Request::WriteMultipleCoils(at.offset, bits.iter().map(|b| *b != 0).collect::<Vec<_>>().into())
            }
            (Table::Coil, _) => return Err(none("a coil")),
            (Table::Holding, Encoded::Words(words)) if allows(23) => {
                Request::ReadWriteMultipleRegisters(at.offset, words.len() as u16, at.offset, words.clone().into())
            }
            (Table::Holding, Encoded::Words(words)) if words.len() == 1 && allows(6) => {
                Request::WriteSingleRegister(at.offset, words[0])
            }
            (Table::Holding, Encoded::Words(words)) if allows(16) => {
                Request::WriteMultipleRegisters(at.offset, words.clone().into())
            }
            (Table::Holding, Encoded::Words(words)) if words.len() == 1 => return Err(none("a register")),
            (Table::Holding, Encoded::Words(_)) => return Err(none("several registers at once")),
            (Table::Holding, Encoded::Masked(parts)) if allows(22) && self.route.learnt.may_mask(unit) => {
                for (i, &(mask, set)) in parts.iter().enumerate().filter(|(_, (mask, _))| *mask != 0) {
                    let part = Address { offset: at.offset + i as u16, ..at };
                    match self.call(unit, Request::MaskWriteRegister(part.offset, !mask, set), part).await {
                        Err(LinkError::NoFunction(_)) => {
                            self.route.learnt.lacks_mask(unit);
                            return Box::pin(self.write(unit, at, what)).await;
                        }
                        other => other?,
                    };
                }
                return Ok(None);
            }
            (Table::Holding, Encoded::Masked(parts)) => {
                // Without the function for it, a change of the device's own between reading and writing is undone.
                let held = self.read(unit, at, parts.len() as u16).await?;
                let words = held.iter().zip(parts).map(|(held, (mask, set))| held & !mask | set).collect();
                return Box::pin(self.write(unit, at, &Encoded::Words(words))).await;
            }
            _ => return Err(LinkError::BadRequest("Input registers and discrete inputs can only be read.".into())),
        };
        match self.call(unit, request, at).await? {
            Response::ReadWriteMultipleRegisters(words) => Ok(Some(words)),
            _ => Ok(None),
        }
    }

    async fn call(&mut self, unit: u8, request: Request<'_>, at: Address) -> Result<Response, LinkError> {
        let reads = matches!(
            request,
            Request::ReadCoils(..)
                | Request::ReadDiscreteInputs(..)
                | Request::ReadInputRegisters(..)
                | Request::ReadHoldingRegisters(..)
        );
        if self.answers > 0 && self.route.learnt.is_single() {
            self.reopen().await?;
        }
        let before = self.answers;
        let result = self.exchange(unit, request.clone(), at).await;
        // A device may close an idle connection, or each after one answer; only what changes nothing is asked again.
        if !reads || before == 0 || result != Err(LinkError::Closed) || self.route.settings.transport == Transport::Serial {
            return result;
        }
        self.reopen().await?;
        let again = self.exchange(unit, request, at).await;
        if self.answers > 0 {
            self.route.learnt.closed_after(before);
        }
        again
    }

    async fn exchange(&mut self, unit: u8, request: Request<'_>, at: Address) -> Result<Response, LinkError> {
        // Timers are coarse: one that is over already would still cost a millisecond.
        if self.route.settings.spacing_ms > 0 && self.free > Instant::now() {
            sleep_until(self.free).await;
        }
        let watched = self.route.tap.open();
        let asked = if watched { words_of(&request, at) } else { String::new() };
        let function = request.function_code().value();
        let count = match &request {
            Request::ReadCoils(_, count) | Request::ReadDiscreteInputs(_, count) => usize::from(*count),
            _ => usize::MAX,
        };
        self.ear.begin(watched);
        self.context.set_slave(Slave(unit));
        let (began, left) = (Instant::now(), if watched { now() } else { 0 });
        let limit = Duration::from_millis(self.route.timeout_ms.into());
        let rtu = self.route.settings.transport.rtu();
        let result = match timeout(limit, self.context.call(request)).await {
            Ok(Ok(Ok(response))) => Ok(response),
            Ok(Ok(Err(exception))) => Err(refusal(exception, function, unit, at)),
            Ok(Err(error)) if rtu => Err(failure(error)),
            Ok(Err(error)) => Err(self.ear.other_protocol().unwrap_or_else(|| failure(error))),
            Err(_) if rtu && self.ear.heard() => {
                Err(LinkError::WrongAnswer("bytes came, but no whole frame with the right checksum".into()))
            }
            Err(_) => Err(self.ear.other_protocol().filter(|_| !rtu).unwrap_or(LinkError::Silent(self.route.timeout_ms))),
        };
        self.cut |= result == Err(LinkError::Closed) && self.answers > 0 && self.answered.elapsed() < SOON;
        self.answered = Instant::now();
        self.answers += u32::from(result.as_ref().map_or_else(LinkError::spares_connection, |_| true));
        self.took_us = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
        if self.route.settings.spacing_ms > 0 {
            self.free = Instant::now() + Duration::from_millis(self.route.settings.spacing_ms.into());
        }
        if watched {
            let (sent, received) = self.ear.take();
            let answered = result.as_ref().map_or_else(ToString::to_string, |r| answer_of(r, count));
            let (took_us, passed) = (self.took_us, result.is_ok());
            self.route.tap.tell(Exchange { at: left, took_us, unit, asked, answered, passed, sent, received });
        }
        result
    }
}

/// A request in words.
fn words_of(request: &Request<'_>, at: Address) -> String {
    let span = |count: u16| match count {
        1 => at.to_string(),
        _ => format!("{at}–{}", u32::from(at.offset) + u32::from(count) - 1),
    };
    match request {
        Request::ReadCoils(_, count)
        | Request::ReadDiscreteInputs(_, count)
        | Request::ReadInputRegisters(_, count)
        | Request::ReadHoldingRegisters(_, count) => format!("read {}", span(*count)),
        Request::WriteSingleCoil(_, on) => format!("switch {at} {}", if *on { "on" } else { "off" }),
        Request::WriteMultipleCoils(_, bits) => format!("switch {} {}", span(bits.len() as u16), shown(bits.iter())),
        Request::WriteSingleRegister(_, word) => format!("write {at} {word}"),
        Request::WriteMultipleRegisters(_, words) => format!("write {} {}", span(words.len() as u16), shown(words.iter())),
        Request::MaskWriteRegister(_, keep, set) => format!("change bits {:#06x} of {at} to {set:#06x}", !keep),
        Request::ReadWriteMultipleRegisters(_, _, _, words) => {
            format!("write and read {} {}", span(words.len() as u16), shown(words.iter()))
        }
        _ => "another function".into(),
    }
}

/// An answer in words. Bits travel in whole bytes; only `count` of them were asked for.
fn answer_of(response: &Response, count: usize) -> String {
    match response {
        Response::ReadCoils(bits) | Response::ReadDiscreteInputs(bits) => shown(bits.iter().take(count).map(|b| u8::from(*b))),
        Response::ReadInputRegisters(words)
        | Response::ReadHoldingRegisters(words)
        | Response::ReadWriteMultipleRegisters(words) => shown(words.iter()),
        _ => "done".into(),
    }
}

/// The first of many values.
fn shown<T: ToString>(values: impl ExactSizeIterator<Item = T>) -> String {
    let count = values.len();
    let mut words: Vec<String> = values.take(16).map(|v| v.to_string()).collect();
    if count > 16 {
        words.push(format!("… {count} in all"));
    }
    words.join(" ")
}

/// §7 of the application protocol.
fn refusal(code: ExceptionCode, function: u8, unit: u8, at: Address) -> LinkError {
    let refused = |words: &str| LinkError::Refused(words.into());
    match code {
        ExceptionCode::IllegalDataAddress => LinkError::NoSuchAddress(at.to_string()),
        ExceptionCode::IllegalFunction => LinkError::NoFunction(function),
        ExceptionCode::IllegalDataValue => refused("it does not accept this value (exception 3)"),
        ExceptionCode::ServerDeviceFailure => refused("it failed while serving the request (exception 4)"),
        ExceptionCode::Acknowledge | ExceptionCode::ServerDeviceBusy => LinkError::Busy,
        ExceptionCode::GatewayPathUnavailable | ExceptionCode::GatewayTargetDevice => LinkError::WrongUnit(unit),
        other => LinkError::Refused(format!("exception {}", u8::from(other))),
    }
}

fn failure(error: Error) -> LinkError {
    match error {
        // A device that does not take our certificate says so only now, since version 1.3 of TLS.
        Error::Transport(e) if tls::error_of(&e).is_some() => tls::error_of(&e).cloned().map_or(LinkError::Closed, tls::refused),
        Error::Protocol(ProtocolError::HeaderMismatch { .. }) => LinkError::OtherRequest,
        Error::Protocol(ProtocolError::FunctionCodeMismatch { .. }) => {
            LinkError::WrongAnswer("it answers another function".into())
        }
        Error::Transport(e)
            if matches!(e.kind(), io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput | io::ErrorKind::UnexpectedEof) =>
        {
            LinkError::WrongAnswer(format!("its lengths are inconsistent ({e})"))
        }
        Error::Transport(_) => LinkError::Closed,
    }
}
