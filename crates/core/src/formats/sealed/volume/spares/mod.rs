//! Spare volumes: further volumes out of which missing and damaged ones are recreated, without the password.
//!
//! [`Groups`] says which data volumes a spare volume stands for; [`code`] is the arithmetic; [`column`] works on the cells that have the
//! same index in the volumes of a group. A spare volume depends on nothing but the data cells and its number, so spare volumes can be
//! added to a set at any time. They prove nothing: what is recreated has to pass the seals. docs/format.md (1.6) gives every byte.

pub mod code;
pub mod column;
pub mod making;
pub mod reach;

use super::Geometry;
use code::{MAX_MEMBERS, MAX_PLACES};
use std::collections::BTreeMap;
use std::fmt;
use std::ops::RangeInclusive;
use std::str::FromStr;

/// How many spare volumes a set is to have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SpareWish {
    /// So many.
    Count(u32),
    /// So many for a hundred data volumes, at least one.
    Percent(u32),
}

/// A text that does not say how many spare volumes are wished.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SpareWishError {
    /// It is neither a count nor a percentage.
    #[error("neither a count nor a percentage")]
    NoNumber,
    /// It is a count beyond [`SpareWish::MAX_COUNT`], or a percentage beyond 100.
    #[error("too many")]
    TooMany,
}

impl FromStr for SpareWish {
    type Err = SpareWishError;

    /// Reads `2` or `20%`.
    ///
    /// # Errors
    /// [`SpareWishError`].
    fn from_str(text: &str) -> Result<Self, SpareWishError> {
        let text = text.trim();
        let (digits, wish, most): (_, fn(u32) -> Self, _) = match text.strip_suffix('%') {
            Some(digits) => (digits.trim_end(), Self::Percent, 100),
            None => (text, Self::Count, Self::MAX_COUNT),
        };
        if digits.is_empty() || !digits.bytes().all(|byte| byte.is_ascii_digit()) {
            return Err(SpareWishError::NoNumber);
        }
        let number = digits.parse().ok().filter(|number| *number <= most).ok_or(SpareWishError::TooMany)?;
        Ok(if number == 0 { Self::NONE } else { wish(number) })
    }
}

impl fmt::Display for SpareWish {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Count(count) => count.fmt(formatter),
            Self::Percent(percent) => write!(formatter, "{percent}%"),
        }
    }
}

impl SpareWish {
    /// None.
    pub const NONE: Self = Self::Count(0);

    /// The most that can be wished as a count: every set can have so many.
    pub const MAX_COUNT: u32 = MAX_PLACES;

    /// How many that is for so many data volumes, which can have no more than [`Groups::most_spares`].
    pub fn count(self, data_volumes: u32) -> u32 {
        let wished = match self {
            Self::Count(count) => count,
            Self::Percent(0) => 0,
            Self::Percent(percent) => {
                let count = (u64::from(data_volumes) * u64::from(percent)).div_ceil(100);
                u32::try_from(count).unwrap_or(u32::MAX).max(1)
            }
        };
        wished.min(Groups::of(data_volumes).most_spares())
    }
}

/// The groups that data volumes are taken in: as few and as equal as is possible with at most 200 in each.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Groups {
    data_volumes: u32,
}

impl Groups {
    /// Those of a set with so many data volumes.
    pub const fn of(data_volumes: u32) -> Self {
        Self { data_volumes }
    }

    /// How many groups there are; at least one.
    pub const fn count(self) -> u32 {
        if self.data_volumes <= MAX_MEMBERS { 1 } else { self.data_volumes.div_ceil(MAX_MEMBERS) }
    }

    /// The most spare volumes that the set can have.
    pub const fn most_spares(self) -> u32 {
        self.count() * MAX_PLACES
    }

    /// Members of the smaller groups, and how many groups have one more. Those come first.
    const fn division(self) -> (u32, u32) {
        (self.data_volumes / self.count(), self.data_volumes % self.count())
    }

    /// The numbers of the data volumes of a group, which are counted from 0.
    pub fn members(self, group: u32) -> RangeInclusive<u32> {
        let (each, larger) = self.division();
        let before = group * each + group.min(larger);
        before + 1..=before + each + u32::from(group < larger)
    }

    /// The group of a data volume.
    pub fn of_volume(self, number: u32) -> u32 {
        let (each, larger) = self.division();
        let (at, in_larger) = (number.saturating_sub(1), larger * (each + 1));
        if at < in_larger { at / (each + 1) } else { larger + (at - in_larger) / each.max(1) }
    }

    /// The group of a spare volume, and its place in that, which counts from 0. `None` for more than a group can have.
    pub fn of_spare(self, number: u32) -> Option<(u32, u8)> {
        let at = number.checked_sub(1)?;
        let place = u8::try_from(at / self.count()).ok().filter(|place| u32::from(*place) < MAX_PLACES)?;
        Some((at % self.count(), place))
    }

    /// Whether a spare volume belongs to a group.
    pub fn has_spare(self, group: u32, number: u32) -> bool {
        self.of_spare(number).is_some_and(|(of, _)| of == group)
    }

    /// The groups in which the spare volumes are too few, where these data volumes are missing and these spare ones are here.
    pub fn shortfalls(
        self,
        missing: impl IntoIterator<Item = u32>,
        spares: impl IntoIterator<Item = u32>,
    ) -> Vec<Shortfall> {
        let mut by_group = BTreeMap::<u32, (Vec<u32>, usize)>::new();
        missing.into_iter().for_each(|number| by_group.entry(self.of_volume(number)).or_default().0.push(number));
        for (group, _) in spares.into_iter().filter_map(|number| self.of_spare(number)) {
            by_group.entry(group).or_default().1 += 1;
        }
        let short = by_group.into_values().filter(|(missing, spares)| missing.len() > *spares);
        short.map(|(missing, spares)| Shortfall { needed: missing.len() - spares, missing }).collect()
    }

    /// How many volumes of the set may be lost in any case, where it has so many spare ones; more, where they are of several groups.
    pub const fn survives_any(self, spares: u32) -> u32 {
        spares / self.count()
    }
}

/// A group in which more volumes are missing than there are spare ones.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shortfall {
    /// The numbers of the data volumes that are missing.
    pub missing: Vec<u32>,
    /// So many of them are enough, whichever; or as many spare volumes of the group.
    pub needed: usize,
}

/// Cells in a spare volume: as many as in a volume before the last.
pub const fn cells_in_spare(geometry: &Geometry) -> u32 {
    geometry.cells_per_volume
}

/// Bytes of a spare volume.
pub fn spare_bytes(geometry: &Geometry) -> u64 {
    geometry.cell_length.offset_of(geometry.cells_per_volume)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    proptest! {
        #[test]
        fn every_volume_is_in_one_group(data_volumes in 1_u32..2_000) {
            let groups = Groups::of(data_volumes);
            let all: Vec<u32> = (0..groups.count()).flat_map(|group| groups.members(group)).collect();
            prop_assert_eq!(all, (1..=data_volumes).collect::<Vec<_>>());
            for group in 0..groups.count() {
                prop_assert!(groups.members(group).count() <= MAX_MEMBERS as usize);
                prop_assert!(groups.members(group).all(|number| groups.of_volume(number) == group));
            }
        }
    }

    #[rstest]
    #[case::the_first(10, 1, Some((0, 0)))]
    #[case::the_last_place(10, 56, Some((0, 55)))]
    #[case::beyond(10, 57, None)]
    #[case::dealt_in_turn(401, 5, Some((1, 1)))]
    #[case::none(10, 0, None)]
    fn spares_are_dealt_to_groups(#[case] data_volumes: u32, #[case] spare: u32, #[case] expected: Option<(u32, u8)>) {
        let groups = Groups::of(data_volumes);
        assert_eq!(groups.of_spare(spare), expected);
        let of = (0..groups.count()).filter(|group| groups.has_spare(*group, spare));
        assert_eq!(of.collect::<Vec<_>>(), expected.map_or(vec![], |(group, _)| vec![group]));
    }

    #[rstest]
    #[case("2", Ok(SpareWish::Count(2)))]
    #[case(" 20 % ", Ok(SpareWish::Percent(20)))]
    #[case("0%", Ok(SpareWish::NONE))]
    #[case("57", Err(SpareWishError::TooMany))]
    #[case("101%", Err(SpareWishError::TooMany))]
    #[case("99999999999", Err(SpareWishError::TooMany))]
    #[case("-1", Err(SpareWishError::NoNumber))]
    #[case("two", Err(SpareWishError::NoNumber))]
    #[case("%", Err(SpareWishError::NoNumber))]
    fn a_wish_is_read(#[case] text: &str, #[case] expected: Result<SpareWish, SpareWishError>) {
        assert_eq!(text.parse(), expected);
    }

    #[rstest]
    #[case::a_count(SpareWish::Count(2), 9, 2)]
    #[case::rounded_up(SpareWish::Percent(10), 9, 1)]
    #[case::of_many(SpareWish::Percent(10), 21, 3)]
    #[case::no_more_than_there_can_be(SpareWish::Percent(100), 200, 56)]
    #[case::none(SpareWish::Percent(0), 9, 0)]
    fn a_wish_is_a_count(#[case] wish: SpareWish, #[case] data_volumes: u32, #[case] expected: u32) {
        assert_eq!(wish.count(data_volumes), expected);
    }
}
