//! The operator's board of a large place: its areas, their equipment in short, and figures over like equipment.

use super::plant::{ItemView, Viewing, known_as};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    web::{Data, Query},
};
use havrel_core::{
    TagNo,
    access::Action,
    plant::{
        Kind, Plant, RollUp,
        board::{Area, Figure, rolled as together},
    },
    quality::Class,
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{HashMap, HashSet},
    sync::{Arc, PoisonError},
};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Most pieces of equipment of one area, and of all areas, that are shown.
const MOST_OF_AREA: usize = 100;
const MOST_LINES: usize = 160;

/// Which place.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct BoardQuery {
    /// The place that is looked at; without it, the whole plant.
    pub at: Option<Uuid>,
}

/// Equipment in short.
#[derive(Serialize, ToSchema)]
pub struct LineView {
    pub place: Uuid,
    /// Its name, behind the equipment that it stands in.
    pub name: String,
    /// The name of its class; empty where it has none.
    pub class: String,
    /// The values by which it is shown, by their ids.
    pub main: Vec<Uuid>,
}

/// What like equipment of an area comes to: “Agitator · Running, how many of 5”.
#[derive(Serialize, ToSchema)]
pub struct FigureView {
    /// The class that brings the property.
    pub class: String,
    pub name: String,
    pub unit: String,
    pub decimals: u8,
    /// `sum`, `average`, `lowest`, `highest` or `count`.
    #[schema(value_type = String)]
    pub how: RollUp,
    /// How many tags come together.
    pub of: usize,
}

/// An area with its equipment.
#[derive(Serialize, ToSchema)]
pub struct AreaView {
    pub place: Uuid,
    pub name: String,
    /// How many pieces of equipment it has; the first are in `lines`.
    pub equipment: usize,
    pub lines: Vec<LineView>,
    pub figures: Vec<FigureView>,
}

/// The board of a place.
#[derive(Serialize, ToSchema)]
pub struct BoardView {
    pub revision: i64,
    pub areas: Vec<AreaView>,
    /// The tags that its lines show.
    pub tags: Vec<ItemView>,
}

/// The areas of a place as this person sees them, worked out once for each revision.
fn areas(app: &App, plant: &Arc<Plant>, at: Option<Uuid>) -> Arc<Vec<Area>> {
    let mut known = app.areas.lock().unwrap_or_else(PoisonError::into_inner);
    known.retain(|(of, ..)| of.revision == plant.revision);
    if let Some((.., areas)) = known.iter().find(|(of, place, _)| Arc::ptr_eq(of, plant) && *place == at) {
        return areas.clone();
    }
    if known.len() >= 32 {
        known.remove(0);
    }
    let areas = Arc::new(plant.areas(at));
    known.push((plant.clone(), at, areas.clone()));
    areas
}

fn name(plant: &Plant, place: Uuid) -> String {
    plant.places.get(&place).map_or_else(String::new, |p| p.set.name.clone())
}

fn figure(plant: &Plant, figure: &Figure) -> FigureView {
    let class = plant.classes.get(&figure.class);
    let property = class.and_then(|class| class.set.properties.get(&figure.property));
    let text = |field: &str| property?.tag.get(field)?.as_str().map(str::to_owned);
    let decimals = || property?.tag.get("decimals")?.as_u64()?.try_into().ok();
    FigureView {
        class: class.map_or_else(String::new, |class| class.set.name.clone()),
        name: property.map_or_else(String::new, |property| property.name().to_owned()),
        unit: text("unit").unwrap_or_default(),
        decimals: decimals().unwrap_or(1),
        how: figure.how,
        of: figure.tags.len(),
    }
}

/// The areas of a place with their equipment in short.
#[utoipa::path(params(BoardQuery), responses((status = 200, body = BoardView)))]
#[get("/api/board")]
pub async fn board(app: Data<App>, person: Person, query: Query<BoardQuery>) -> Result<Json<BoardView>, Problem> {
    person.may_at(Action::See, query.at)?;
    let plant = person.plant(&app);
    let areas = areas(&app, &plant, query.at);
    let mut by_place: HashMap<Uuid, Vec<Uuid>> = HashMap::new();
    plant.tags.values().for_each(|tag| by_place.entry(tag.set.place).or_default().push(tag.id));
    let line = |&place: &Uuid| LineView {
        place,
        name: known_as(&plant, place),
        class: plant.places.get(&place).and_then(|p| p.set.class).map_or_else(String::new, |id| plant.title(Kind::Class, id)),
        main: plant.main_tags(by_place.get(&place).map_or(&[], Vec::as_slice)),
    };
    let mut left = MOST_LINES;
    let mut area = |area: &Area| {
        let shown = area.equipment.len().min(MOST_OF_AREA).min(left);
        left -= shown;
        AreaView {
            place: area.place,
            name: name(&plant, area.place),
            equipment: area.equipment.len(),
            lines: area.equipment.iter().take(shown).map(line).collect(),
            figures: area.figures.iter().map(|f| figure(&plant, f)).collect(),
        }
    };
    let areas: Vec<AreaView> = areas.iter().map(&mut area).collect();
    let shown: HashSet<Uuid> = areas.iter().flat_map(|area| &area.lines).flat_map(|line| line.main.iter().copied()).collect();
    let view = Viewing::all(&app, &plant, Kind::Tag);
    let tags = view.list(&plant.tags, |tag| shown.contains(&tag.id), |tag| tag.set.order).items;
    Ok(Json(BoardView { revision: plant.revision, areas, tags }))
}

/// What the values of a figure come to now.
#[derive(Serialize, ToSchema)]
pub struct RolledView {
    /// Null where no value counts.
    pub value: Option<f64>,
    /// How many values it is made of; bad ones are left out.
    pub counted: usize,
    /// How many of these are uncertain.
    pub uncertain: usize,
}

/// The figures of a board, in the order of its areas.
#[derive(Serialize, ToSchema)]
pub struct FiguresView {
    /// The revision whose board they belong to.
    pub revision: i64,
    pub figures: Vec<RolledView>,
}

/// What the figures of a board come to now.
#[utoipa::path(params(BoardQuery), responses((status = 200, body = FiguresView)))]
#[get("/api/board/figures")]
pub async fn figures(app: Data<App>, person: Person, query: Query<BoardQuery>) -> Result<Json<FiguresView>, Problem> {
    person.may_at(Action::See, query.at)?;
    let plant = person.plant(&app);
    let areas = areas(&app, &plant, query.at);
    let read = areas.iter().flat_map(|area| &area.figures).flat_map(|figure| &figure.tags);
    let numbers: Vec<TagNo> = read.filter_map(|id| plant.tags.get(id)).map(|tag| tag.no).collect();
    let values = match &person.then {
        Some(then) => then.by_number(&app, numbers).await?,
        None => {
            let values = app.live.values.read().unwrap_or_else(PoisonError::into_inner);
            numbers.into_iter().filter_map(|no| Some((no, values.of(no)?.current.clone()))).collect()
        }
    };
    let rolled = |one: &Figure| {
        let mut uncertain = 0;
        let tags = one.tags.iter().filter_map(|id| plant.tags.get(id));
        let good: Vec<(f64, &str)> = tags
            .filter_map(|tag| {
                let current = values.get(&tag.no)?;
                let number = current.value.as_ref()?.number()?;
                match current.quality.class() {
                    Class::Good => {}
                    Class::Uncertain => uncertain += 1,
                    Class::Bad => return None,
                }
                Some((number, tag.set.unit.as_str()))
            })
            .collect();
        let rolled = together(one.how, &figure(&plant, one).unit, good);
        RolledView { value: rolled.value, counted: rolled.counted, uncertain }
    };
    let figures = areas.iter().flat_map(|area| &area.figures).map(rolled).collect();
    Ok(Json(FiguresView { revision: plant.revision, figures }))
}
