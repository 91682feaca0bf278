//! What the fields of the graph are.

use crate::state::{COLD_ROOMS, ColdRoom, Grower, Lot, LotState, Shared, Weighing};
use apollo_compiler::resolvers::{FieldError, ObjectValue, ResolveInfo, ResolvedValue};
use apollo_compiler::response::JsonValue;

/// Lots of one page at most.
const MAX_PAGE_SIZE: i64 = 100;

type Resolved<'a> = Result<ResolvedValue<'a>, FieldError>;

fn failed<T>(message: impl Into<String>) -> Result<T, FieldError> {
    Err(FieldError { message: message.into() })
}

/// A text argument.
fn text<'a>(info: &ResolveInfo<'a>, name: &str) -> Option<&'a str> {
    info.arguments().get(name).and_then(|value| value.as_str())
}

/// The state that is asked for.
fn state(info: &ResolveInfo<'_>) -> Option<LotState> {
    text(info, "state").map(|state| if state == "OPEN" { LotState::Open } else { LotState::Closed })
}

/// The types `Query` and `Mutation`.
pub(super) struct Root<'s> {
    pub(super) shared: &'s Shared,
    pub(super) is_clerk: bool,
    pub(super) is_mutation: bool,
}

impl<'s> Root<'s> {
    fn lot(&self, lot: Lot) -> LotNode<'s> {
        LotNode { shared: self.shared, is_clerk: self.is_clerk, lot }
    }

    fn find_lot(&self, id: &str) -> Option<LotNode<'s>> {
        let stock = self.shared.stock();
        let number = stock.lot_number(id)?;
        stock.lots.get(&number).cloned().map(|lot| self.lot(lot))
    }

    fn grower(&self, grower: &Grower) -> GrowerNode<'s> {
        GrowerNode { shared: self.shared, is_clerk: self.is_clerk, grower: grower.clone() }
    }

    fn lots(&self, grower: Option<&str>, state: Option<LotState>) -> Vec<LotNode<'s>> {
        let stock = self.shared.stock();
        let fits =
            |lot: &&Lot| grower.is_none_or(|id| lot.grower == id) && state.is_none_or(|state| lot.state == state);
        stock.lots.values().filter(fits).cloned().map(|lot| self.lot(lot)).collect()
    }

    fn query<'a>(&'a self, info: &'a ResolveInfo<'a>) -> Resolved<'a> {
        let id = text(info, "id").unwrap_or_default();
        Ok(match info.field_name() {
            "lots" => {
                let first = info.arguments().get("first").and_then(|first| first.as_i64()).unwrap_or_default();
                if !(1..=MAX_PAGE_SIZE).contains(&first) {
                    return failed(format!("`first` goes from 1 to {MAX_PAGE_SIZE}"));
                }
                let all = self.lots(text(info, "grower"), state(info));
                let total = all.len();
                let begin = match text(info, "after") {
                    Some(after) => all.iter().position(|own| own.lot.id == after).map_or(total, |at| at + 1),
                    None => 0,
                };
                let nodes: Vec<LotNode<'_>> = all.into_iter().skip(begin).take(first as usize).collect();
                let is_last = begin + nodes.len() >= total;
                let next = nodes.last().filter(|_| !is_last).map(|own| own.lot.id.clone());
                ResolvedValue::object(PageNode { nodes, next, total })
            }
            "lot" => ResolvedValue::nullable_object(self.find_lot(id)),
            "growers" => {
                let growers: Vec<GrowerNode<'_>> =
                    self.shared.stock().growers.iter().map(|grower| self.grower(grower)).collect();
                ResolvedValue::list(growers.into_iter().map(ResolvedValue::object))
            }
            "coldRooms" => ResolvedValue::list(COLD_ROOMS.iter().map(|room| ResolvedValue::object(RoomNode(room)))),
            "numbered" => {
                let grower = self.shared.stock().growers.iter().find(|own| own.id == id).map(|own| self.grower(own));
                match (self.find_lot(id), grower, COLD_ROOMS.iter().find(|room| room.id == id)) {
                    (Some(lot), ..) => ResolvedValue::object(lot),
                    (_, Some(grower), _) => ResolvedValue::object(grower),
                    (_, _, Some(room)) => ResolvedValue::object(RoomNode(room)),
                    _ => ResolvedValue::null(),
                }
            }
            "search" => {
                let wanted = text(info, "text").unwrap_or_default().to_lowercase();
                let lots = self.lots(None, None).into_iter().filter(|own| own.lot.variety.contains(&wanted));
                let mut found: Vec<ResolvedValue<'_>> = lots.map(ResolvedValue::object).collect();
                let stock = self.shared.stock();
                let growers = stock.growers.iter().filter(|own| own.name.to_lowercase().contains(&wanted));
                found.extend(growers.map(|own| ResolvedValue::object(self.grower(own))));
                ResolvedValue::list(found)
            }
            _ => return Err(self.unknown_field_error(info)),
        })
    }

    fn mutation<'a>(&'a self, info: &'a ResolveInfo<'a>) -> Resolved<'a> {
        if !self.is_clerk {
            return failed("only a clerk may change something: sign in, or send the key");
        }
        let arguments = info.arguments();
        match info.field_name() {
            "bookLot" => {
                let Some(new) = arguments.get("lot").and_then(|lot| lot.as_object()) else {
                    return failed("`lot` is missing");
                };
                let field = |name: &str| new.get(name).and_then(|value| value.as_str()).map(str::to_owned);
                let grower = field("grower").unwrap_or_default();
                let bins = new.get("bins").and_then(|bins| bins.as_i64()).unwrap_or_default();
                let mut stock = self.shared.stock();
                if !stock.has_grower(&grower) {
                    return failed(format!("{grower} is no grower of ours"));
                }
                if !(1..=400).contains(&bins) {
                    return failed("`bins` goes from 1 to 400");
                }
                let number = stock.next_lot;
                stock.next_lot += 1;
                let lot = Lot {
                    id: format!("L-{number}"),
                    grower,
                    variety: field("variety").unwrap_or_else(|| "mixed".to_owned()),
                    bins: bins as u32,
                    state: LotState::Open,
                    reference: field("reference"),
                    weighings: Vec::new(),
                    version: 1,
                };
                stock.lots.insert(number, lot.clone());
                drop(stock);
                Ok(ResolvedValue::object(self.lot(lot)))
            }
            "closeLot" => {
                let id = text(info, "id").unwrap_or_default();
                let mut stock = self.shared.stock();
                let number = stock.lot_number(id);
                let Some(lot) = number.and_then(|number| stock.lots.get_mut(&number)) else {
                    return failed(format!("no lot has the id {id}"));
                };
                lot.state = LotState::Closed;
                lot.version += 1;
                let lot = lot.clone();
                drop(stock);
                Ok(ResolvedValue::object(self.lot(lot)))
            }
            "attachPhoto" => {
                let id = text(info, "lot").unwrap_or_default();
                if self.shared.stock().lot_number(id).is_none() {
                    return failed(format!("no lot has the id {id}"));
                }
                match arguments.get("photo") {
                    Some(photo) if photo.as_object().is_some() => Ok(ResolvedValue::object(PhotoNode(photo.clone()))),
                    _ => failed("`photo` must be sent as a part of the request"),
                }
            }
            _ => Err(self.unknown_field_error(info)),
        }
    }
}

impl ObjectValue for Root<'_> {
    fn type_name(&self) -> &str {
        if self.is_mutation { "Mutation" } else { "Query" }
    }

    fn resolve_field<'a>(&'a self, info: &'a ResolveInfo<'a>) -> Resolved<'a> {
        if self.is_mutation { self.mutation(info) } else { self.query(info) }
    }
}

struct PageNode<'s> {
    nodes: Vec<LotNode<'s>>,
    next: Option<String>,
    total: usize,
}

impl ObjectValue for PageNode<'_> {
    fn type_name(&self) -> &str {
        "LotPage"
    }

    fn resolve_field<'a>(&'a self, info: &'a ResolveInfo<'a>) -> Resolved<'a> {
        Ok(match info.field_name() {
            "nodes" => ResolvedValue::list(self.nodes.iter().map(|own| ResolvedValue::object(own.clone()))),
            "next" => ResolvedValue::leaf(self.next.clone().map_or(JsonValue::Null, JsonValue::from)),
            "total" => ResolvedValue::leaf(self.total as u64),
            _ => return Err(self.unknown_field_error(info)),
        })
    }
}

#[derive(Clone)]
struct LotNode<'s> {
    shared: &'s Shared,
    is_clerk: bool,
    lot: Lot,
}

impl ObjectValue for LotNode<'_> {
    fn type_name(&self) -> &str {
        "Lot"
    }

    fn resolve_field<'a>(&'a self, info: &'a ResolveInfo<'a>) -> Resolved<'a> {
        let lot = &self.lot;
        Ok(match info.field_name() {
            "id" => ResolvedValue::leaf(lot.id.clone()),
            "grower" => {
                let stock = self.shared.stock();
                let Some(grower) = stock.growers.iter().find(|own| own.id == lot.grower).cloned() else {
                    return failed(format!("{} is no grower of ours", lot.grower));
                };
                ResolvedValue::object(GrowerNode { shared: self.shared, is_clerk: self.is_clerk, grower })
            }
            "variety" => ResolvedValue::leaf(lot.variety.clone()),
            "bins" | "crates" => ResolvedValue::leaf(lot.bins),
            "state" => ResolvedValue::leaf(if lot.state == LotState::Open { "OPEN" } else { "CLOSED" }),
            "reference" => ResolvedValue::leaf(lot.reference.clone().map_or(JsonValue::Null, JsonValue::from)),
            "weighings" => {
                let weighings = lot.weighings.clone();
                ResolvedValue::list(weighings.into_iter().map(|own| ResolvedValue::object(WeighingNode(own))))
            }
            "price" if !self.is_clerk => return failed("only a clerk may see prices: sign in, or send the key"),
            "price" => ResolvedValue::leaf(if lot.variety == "gala" { 1.42 } else { 1.18 }),
            _ => return Err(self.unknown_field_error(info)),
        })
    }
}

struct WeighingNode(Weighing);

impl ObjectValue for WeighingNode {
    fn type_name(&self) -> &str {
        "Weighing"
    }

    fn resolve_field<'a>(&'a self, info: &'a ResolveInfo<'a>) -> Resolved<'a> {
        Ok(match info.field_name() {
            "tray" => ResolvedValue::leaf(self.0.tray.clone()),
            "kg" => ResolvedValue::leaf(self.0.kg),
            _ => return Err(self.unknown_field_error(info)),
        })
    }
}

struct GrowerNode<'s> {
    shared: &'s Shared,
    is_clerk: bool,
    grower: Grower,
}

impl ObjectValue for GrowerNode<'_> {
    fn type_name(&self) -> &str {
        "Grower"
    }

    fn resolve_field<'a>(&'a self, info: &'a ResolveInfo<'a>) -> Resolved<'a> {
        let grower = &self.grower;
        Ok(match info.field_name() {
            "id" => ResolvedValue::leaf(grower.id),
            "name" => ResolvedValue::leaf(grower.name),
            "orchard" => ResolvedValue::leaf(grower.orchard),
            "varieties" => ResolvedValue::list(grower.varieties.iter().map(|own| ResolvedValue::leaf(*own))),
            "lots" => {
                let root = Root { shared: self.shared, is_clerk: self.is_clerk, is_mutation: false };
                let lots = root.lots(Some(grower.id), state(info));
                ResolvedValue::list(lots.into_iter().map(ResolvedValue::object))
            }
            _ => return Err(self.unknown_field_error(info)),
        })
    }
}

struct RoomNode(&'static ColdRoom);

impl ObjectValue for RoomNode {
    fn type_name(&self) -> &str {
        "ColdRoom"
    }

    fn resolve_field<'a>(&'a self, info: &'a ResolveInfo<'a>) -> Resolved<'a> {
        Ok(match info.field_name() {
            "id" => ResolvedValue::leaf(self.0.id),
            "celsius" => ResolvedValue::leaf(self.0.celsius),
            "trays" => ResolvedValue::leaf(self.0.trays),
            "capacity" => ResolvedValue::leaf(self.0.capacity),
            _ => return Err(self.unknown_field_error(info)),
        })
    }
}

/// A file that was sent.
struct PhotoNode(JsonValue);

impl ObjectValue for PhotoNode {
    fn type_name(&self) -> &str {
        "Photo"
    }

    fn resolve_field<'a>(&'a self, info: &'a ResolveInfo<'a>) -> Resolved<'a> {
        match self.0.get(info.field_name()) {
            Some(value) => Ok(ResolvedValue::leaf(value.clone())),
            None => Err(self.unknown_field_error(info)),
        }
    }
}
