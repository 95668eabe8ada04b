//! What a controller's manual would list: points with address, type and meaning. Registers, manual and made-up past all
//! come from these lists.

use crate::process::Process;

/// The tables of Modbus that the controllers use. Input registers repeat the holding ones.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Table {
    Holding,
    Coil,
    Discrete,
}

impl Table {
    /// The word in front of an address.
    pub fn word(self) -> &'static str {
        match self {
            Table::Holding => "holding",
            Table::Coil => "coil",
            Table::Discrete => "discrete",
        }
    }
}

/// How a value lies in registers.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Form {
    /// One unsigned register of tenths.
    Tenths,
    /// One signed register of tenths.
    SignedTenths,
    /// One unsigned register.
    Count,
    /// Two registers.
    Long,
    /// A 32-bit float in two registers, in steps of this grain.
    Float(f64),
    /// So many registers of text.
    Text(u16),
    Bit,
}

impl Form {
    /// Registers (or bits) it takes.
    pub fn width(self) -> u16 {
        match self {
            Form::Tenths | Form::SignedTenths | Form::Count | Form::Bit => 1,
            Form::Long | Form::Float(_) => 2,
            Form::Text(length) => length,
        }
    }

    /// The name of its type.
    pub fn kind(self) -> &'static str {
        match self {
            Form::Tenths | Form::Count => "u16",
            Form::SignedTenths => "i16",
            Form::Long => "u32",
            Form::Float(_) => "f32",
            Form::Text(_) => "text",
            Form::Bit => "bool",
        }
    }
}

/// Where a point's value comes from in equipment of type `T`.
pub enum Source<T> {
    Number(fn(&T) -> f64),
    Text(fn(&T) -> String),
}

/// One line of a manual, for equipment of type `T`; the address counts from the equipment's first.
pub struct Point<T: 'static> {
    pub(crate) name: &'static str,
    pub(crate) table: Table,
    pub(crate) at: u16,
    pub(crate) form: Form,
    pub(crate) unit: &'static str,
    pub(crate) decimals: u8,
    pub(crate) range: Option<(f64, f64)>,
    /// What a change must exceed to be worth recording.
    pub(crate) deadband: f64,
    /// The sensor's noise, in engineering units.
    noise: f64,
    pub(crate) note: &'static str,
    /// The name of the point that holds its setpoint.
    pub(crate) setpoint: &'static str,
    source: Source<T>,
    set: Option<fn(&mut T, f64)>,
}

impl<T> Point<T> {
    const fn new(table: Table, at: u16, form: Form, name: &'static str, source: Source<T>) -> Point<T> {
        Point {
            name,
            table,
            at,
            form,
            unit: "",
            decimals: 0,
            range: None,
            deadband: 0.0,
            noise: 0.0,
            note: "",
            setpoint: "",
            source,
            set: None,
        }
    }

    /// A number in registers.
    pub(crate) const fn number(at: u16, form: Form, name: &'static str, value: fn(&T) -> f64) -> Point<T> {
        Point::new(Table::Holding, at, form, name, Source::Number(value))
    }

    /// A text in registers.
    pub(crate) const fn text(at: u16, length: u16, name: &'static str, value: fn(&T) -> String) -> Point<T> {
        Point::new(Table::Holding, at, Form::Text(length), name, Source::Text(value))
    }

    /// A discrete input.
    pub(crate) const fn state(at: u16, name: &'static str, value: fn(&T) -> f64) -> Point<T> {
        Point::new(Table::Discrete, at, Form::Bit, name, Source::Number(value))
    }

    /// A coil.
    pub(crate) const fn switch(at: u16, name: &'static str, value: fn(&T) -> f64, set: fn(&mut T, f64)) -> Point<T> {
        Point::new(Table::Coil, at, Form::Bit, name, Source::Number(value)).settable(set)
    }

    /// Engineering unit, digits, range, and the deadband it is recorded with.
    pub(crate) const fn shown(mut self, unit: &'static str, decimals: u8, range: (f64, f64), deadband: f64) -> Point<T> {
        (self.unit, self.decimals, self.range, self.deadband) = (unit, decimals, Some(range), deadband);
        self
    }

    /// A counter: its engineering unit, and the step worth recording.
    pub(crate) const fn counted(mut self, unit: &'static str, deadband: f64) -> Point<T> {
        (self.unit, self.deadband) = (unit, deadband);
        self
    }

    pub(crate) const fn noisy(mut self, noise: f64) -> Point<T> {
        self.noise = noise;
        self
    }

    pub(crate) const fn noted(mut self, note: &'static str) -> Point<T> {
        self.note = note;
        self
    }

    pub(crate) const fn toward(mut self, setpoint: &'static str) -> Point<T> {
        self.setpoint = setpoint;
        self
    }

    pub(crate) const fn settable(mut self, set: fn(&mut T, f64)) -> Point<T> {
        self.set = Some(set);
        self
    }
}

/// What a point shows.
#[derive(Clone, Debug, PartialEq)]
pub enum Reading {
    Number(f64),
    Text(String),
}

/// Reads from the process.
type Get = Box<dyn Fn(&Process) -> Reading + Send>;
/// Sets something in the process.
type Set = Box<dyn Fn(&mut Process, f64) + Send>;

/// A point of one piece of equipment, at its full address.
pub struct Bound {
    /// Path of the equipment below the site.
    pub place: String,
    pub name: &'static str,
    pub table: Table,
    pub address: u16,
    pub form: Form,
    pub unit: &'static str,
    pub decimals: u8,
    pub range: Option<(f64, f64)>,
    pub deadband: f64,
    pub noise: f64,
    pub note: &'static str,
    pub setpoint: &'static str,
    pub get: Get,
    pub set: Option<Set>,
}

/// Binds a list of points to one piece of equipment, found by `own`, whose registers and bits begin at these addresses.
pub(crate) fn bind<T: 'static>(
    place: &str,
    points: &'static [Point<T>],
    (register, bit): (u16, u16),
    own: impl Fn(&Process) -> &T + Copy + Send + 'static,
    own_mut: impl Fn(&mut Process) -> &mut T + Copy + Send + 'static,
) -> impl Iterator<Item = Bound> {
    points.iter().map(move |p| Bound {
        place: place.to_owned(),
        name: p.name,
        table: p.table,
        address: p.at + if p.form == Form::Bit { bit } else { register },
        form: p.form,
        unit: p.unit,
        decimals: p.decimals,
        range: p.range,
        deadband: p.deadband,
        noise: p.noise,
        note: p.note,
        setpoint: p.setpoint,
        get: match p.source {
            Source::Number(get) => Box::new(move |process| Reading::Number(get(own(process)))),
            Source::Text(get) => Box::new(move |process| Reading::Text(get(own(process)))),
        },
        set: p.set.map(|set| -> Set { Box::new(move |process, v| set(own_mut(process), v)) }),
    })
}
