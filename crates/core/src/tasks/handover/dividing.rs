//! Dividing what is sent into messages, media or whatever else is lost as a whole, so that spare volumes make good the loss of any one of
//! them wherever there are enough, and of more where there are more. What survives such a loss is told here too.

use crate::formats::sealed::volume::{Groups, VolumeKind};
use std::collections::BTreeMap;

/// A group of volumes of one set among those that are sent together: the set, counted from 0, and its group.
type GroupOf = (usize, u32);

/// What a file is of a set with spare volumes, as far as losing it goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Share {
    group: GroupOf,
    is_spare: bool,
}

impl Share {
    /// That of a volume of the set at this place among those that are sent together.
    pub fn of(set: usize, groups: Groups, kind: VolumeKind, number: u32) -> Self {
        let is_spare = kind == VolumeKind::Spare;
        let group = match groups.of_spare(number).filter(|_| is_spare) {
            Some((group, _)) => group,
            None => groups.of_volume(number),
        };
        Self { group: (set, group), is_spare }
    }

    /// Whether it is a spare volume.
    pub const fn is_spare(self) -> bool {
        self.is_spare
    }
}

/// A file that is sent: the bytes that it takes of a message or a medium, and what it is of a set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Item {
    /// Bytes of room.
    pub bytes: u64,
    /// What it is of a set; `None` for what no spare volume makes good.
    pub share: Option<Share>,
}

/// What losing whole messages or media comes to, where there are spare volumes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Losses {
    /// So many of them may be lost, whichever they are.
    pub any: usize,
    /// Where that is none: how many volumes of one group the loss of one can take, and how many spare volumes that group has.
    pub worst: Option<(usize, usize)>,
}

/// Which files go together, by their places, in as few messages or media of this capacity as is possible with spare volumes kept apart from
/// what they make good. Without spare volumes they go in order. One that is too large for any goes alone.
pub fn divide(items: &[Item], capacity: u64) -> Vec<Vec<usize>> {
    let in_order = in_order(items, capacity);
    let spares = members(items, true);
    if spares.is_empty() {
        return in_order;
    }
    let data = members(items, false);
    let least = data.iter().filter_map(|(group, data)| {
        let spares = spares.get(group)?;
        Some((data + spares).div_ceil(*spares))
    });
    let least = least.max().unwrap_or(0).max(in_order.len());
    let alone = || (0..items.len()).map(|at| vec![at]).collect();
    (least..items.len()).find_map(|count| spread(items, capacity, count, &spares)).unwrap_or_else(alone)
}

/// What losing any of these comes to; `None` where there are no spare volumes.
pub fn losses(items: &[Item], units: &[Vec<usize>]) -> Option<Losses> {
    let spares = members(items, true);
    if spares.is_empty() {
        return None;
    }
    let mut all = Losses { any: units.len(), worst: None };
    for group in members(items, false).keys() {
        let spares = spares.get(group).copied().unwrap_or(0);
        let mut lost: Vec<usize> = units.iter().map(|unit| count_of(items, unit, *group)).collect();
        lost.sort_unstable_by(|one, other| other.cmp(one));
        let any = lost.iter().scan(0, |sum, one| {
            *sum += one;
            Some(*sum)
        });
        all.any = all.any.min(any.take_while(|sum| *sum <= spares).count());
        let most = lost.first().copied().unwrap_or(0);
        if most > spares && all.worst.is_none_or(|(worst, _)| most > worst) {
            all.worst = Some((most, spares));
        }
    }
    Some(all)
}

/// In order, as many as one holds.
fn in_order(items: &[Item], capacity: u64) -> Vec<Vec<usize>> {
    let mut units: Vec<Vec<usize>> = Vec::new();
    let mut filled = 0_u64;
    for (at, item) in items.iter().enumerate() {
        filled = filled.saturating_add(item.bytes);
        match units.last_mut().filter(|_| filled <= capacity) {
            Some(last) => last.push(at),
            None => {
                units.push(vec![at]);
                filled = item.bytes;
            }
        }
    }
    units
}

/// In turn, so that none holds more of a group than that has spare volumes; `None` where so many do not hold all of it.
fn spread(items: &[Item], capacity: u64, count: usize, spares: &BTreeMap<GroupOf, usize>) -> Option<Vec<Vec<usize>>> {
    let mut units = vec![Vec::new(); count];
    let mut filled = vec![0_u64; count];
    let mut held: Vec<BTreeMap<GroupOf, usize>> = vec![BTreeMap::new(); count];
    for (at, item) in items.iter().enumerate() {
        let group = item.share.map(|share| share.group);
        let most = group.and_then(|group| spares.get(&group)).copied().unwrap_or(usize::MAX);
        let of_it = |unit: usize| group.map_or(0, |group| held[unit].get(&group).copied().unwrap_or(0));
        let has_room = |unit: &usize| {
            of_it(*unit) < most && (units[*unit].is_empty() || filled[*unit].saturating_add(item.bytes) <= capacity)
        };
        let unit = (0..count).filter(has_room).min_by_key(|unit| of_it(*unit))?;
        units[unit].push(at);
        filled[unit] = filled[unit].saturating_add(item.bytes);
        if let Some(group) = group {
            *held[unit].entry(group).or_default() += 1;
        }
    }
    units.retain(|unit| !unit.is_empty());
    Some(units)
}

fn count_of(items: &[Item], unit: &[usize], group: GroupOf) -> usize {
    unit.iter().filter(|at| items[**at].share.is_some_and(|share| share.group == group)).count()
}

/// How many spare, or data, volumes of each group there are.
fn members(items: &[Item], spare: bool) -> BTreeMap<GroupOf, usize> {
    let mut members = BTreeMap::new();
    for share in items.iter().filter_map(|item| item.share).filter(|share| share.is_spare == spare) {
        *members.entry(share.group).or_default() += 1;
    }
    members
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    /// So many data and spare volumes of 100 bytes each, behind a page that takes as much as this.
    fn items(data: u32, spares: u32, page: u64) -> Vec<Item> {
        let share = |kind, number| Some(Share::of(0, Groups::of(data), kind, number));
        let data = (1..=data).map(|number| share(VolumeKind::Data, number));
        let spares = (1..=spares).map(|number| share(VolumeKind::Spare, number));
        let page = (page > 0).then_some(Item { bytes: page, share: None });
        page.into_iter().chain(data.chain(spares).map(|share| Item { bytes: 100, share })).collect()
    }

    /// Data and spare volumes, the page, the capacity; then how many messages there are, and how many may be lost.
    #[rstest]
    #[case::no_spare_volumes((7, 0), 0, 300, 3, None)]
    #[case::a_volume_and_its_only_spare_volume((1, 1), 0, 1_000, 2, Some(1))]
    #[case::many_in_few((35, 7), 0, 100_000, 6, Some(1))]
    #[case::as_many_as_the_size_allows((35, 7), 0, 300, 14, Some(2))]
    #[case::each_alone_by_its_size((5, 2), 0, 100, 7, Some(2))]
    #[case::beside_a_page((3, 1), 150, 200, 5, Some(1))]
    #[case::groups_of_which_one_has_none((401, 2), 0, 1_000_000, 135, Some(0))]
    #[case::one_too_large((2, 1), 0, 50, 3, Some(1))]
    fn a_lost_message_is_made_good(
        #[case] (data, spares): (u32, u32),
        #[case] page: u64,
        #[case] capacity: u64,
        #[case] messages: usize,
        #[case] may_be_lost: Option<usize>,
    ) {
        let items = items(data, spares, page);
        assert_eq!(items.iter().filter(|item| item.share.is_some_and(Share::is_spare)).count(), spares as usize);
        let units = divide(&items, capacity);
        let losses = losses(&items, &units);
        assert_eq!((units.len(), losses.map(|losses| losses.any)), (messages, may_be_lost), "{units:?}");
        assert_eq!(losses.is_some_and(|losses| losses.worst.is_some()), may_be_lost == Some(0));
    }

    proptest! {
        #[test]
        fn everything_is_sent_once_and_within_the_limit(
            data in 1_u32..450, spares in 0_u32..60, page in 0_u64..400, capacity in 100_u64..3_000,
        ) {
            let items = items(data, spares, page);
            let units = divide(&items, capacity);
            let mut all: Vec<usize> = units.concat();
            all.sort_unstable();
            prop_assert_eq!(all, (0..items.len()).collect::<Vec<_>>());
            let bytes = |unit: &Vec<usize>| unit.iter().map(|at| items[*at].bytes).sum::<u64>();
            prop_assert!(units.iter().all(|unit| unit.len() == 1 || bytes(unit) <= capacity));
            // Where every group has a spare volume, any message may be lost.
            if spares >= Groups::of(data).count() {
                prop_assert!(losses(&items, &units).unwrap().any >= 1, "{:?}", units);
            }
        }
    }
}
