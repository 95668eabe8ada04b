//! The list of engineering units.

use crate::body::Json;
use crate::{auth::Person, problem::Problem};
use actix_web::get;
use havrel_core::{access::Action, unit::UNITS};
use serde::Serialize;
use utoipa::ToSchema;

/// An engineering unit of the list. A value in the coherent unit of its quantity is value × factor + offset.
#[derive(Serialize, ToSchema)]
pub struct UnitView {
    /// As it is printed.
    pub symbol: &'static str,
    pub name: &'static str,
    /// UCUM code.
    pub ucum: &'static str,
    /// UN/CEFACT common code; empty where there is none.
    pub common: &'static str,
    /// Units of one quantity convert into each other.
    pub quantity: &'static str,
    pub factor: f64,
    pub offset: f64,
}

/// The engineering units that are known by the open codes.
#[utoipa::path(responses((status = 200, body = Vec<UnitView>)))]
#[get("/api/units")]
pub async fn units(person: Person) -> Result<Json<Vec<UnitView>>, Problem> {
    person.may(Action::See)?;
    let view = |u: &havrel_core::unit::Unit| UnitView {
        symbol: u.symbol,
        name: u.name,
        ucum: u.ucum,
        common: u.common,
        quantity: u.quantity,
        factor: u.factor,
        offset: u.offset,
    };
    Ok(Json(UNITS.iter().map(view).collect()))
}
