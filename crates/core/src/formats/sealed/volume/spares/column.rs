//! A column: the cells that have the same index in the volumes of a group, data and spare ones, as far as they are here. As many of its
//! data cells as it has spare cells can be recreated.
//!
//! The check of a spare cell finds accidents only, and whoever made the cell on purpose made its check too. Where there are more spare
//! cells than are needed, the others have to agree with what is recreated.

use super::code::Sums;

/// So many choices of spare cells are tried for one cell.
const MAX_WAYS: usize = 64;

/// A choice of spare cells, by their places among those of the column.
type Way = Vec<usize>;

/// The cells of a column that are here. What a volume does not have, since it is shorter, counts as zeros and is left out.
#[derive(Debug, Default)]
pub struct Column {
    /// The cells: those of the known members, then the spare ones, each as long as the others. Zeros stand for their checks.
    bytes: Vec<u8>,
    cell_bytes: usize,
    known: Vec<u8>,
    unknown: Vec<u8>,
    /// Number of the volume, and place in the group.
    spares: Vec<(u32, u8)>,
}

/// What the spare cells of a column come to without the password.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// There are too few for what is unknown.
    TooFew,
    /// They are enough, and all agree but those of these volumes.
    Enough(Vec<u32>),
    /// They contradict each other, and nothing tells which are right.
    Disputed,
}

impl Column {
    /// Begins anew, for cells of so many bytes, room for their checks counted.
    pub fn begin(&mut self, cell_bytes: usize) {
        self.cell_bytes = cell_bytes;
        self.bytes.clear();
        self.known.clear();
        self.unknown.clear();
        self.spares.clear();
    }

    /// The data cell of a member, where `fill` can give it; its length in bytes, of which the rest is zeros. All members come before all
    /// spare cells.
    pub fn take_member<E>(
        &mut self,
        member: u8,
        fill: impl FnOnce(&mut [u8]) -> Result<Option<usize>, E>,
    ) -> Result<(), E> {
        let is_here = self.take(fill)?;
        if is_here {
            self.known.push(member)
        } else {
            self.unknown.push(member)
        }
        Ok(())
    }

    /// The same for the spare cell of a volume, and its place in the group.
    pub fn take_spare<E>(
        &mut self,
        number: u32,
        place: u8,
        fill: impl FnOnce(&mut [u8]) -> Result<Option<usize>, E>,
    ) -> Result<(), E> {
        if self.take(fill)? {
            self.spares.push((number, place));
        }
        Ok(())
    }

    fn take<E>(&mut self, fill: impl FnOnce(&mut [u8]) -> Result<Option<usize>, E>) -> Result<bool, E> {
        let at = self.bytes.len();
        self.bytes.resize(at + self.cell_bytes, 0);
        let filled = fill(&mut self.bytes[at..])?;
        match filled {
            // What was there before may be longer.
            Some(length) => self.bytes[at + length..].fill(0),
            None => self.bytes.truncate(at),
        }
        Ok(filled.is_some())
    }

    /// Whether there are too few spare cells for what is unknown.
    pub fn has_too_few(&self) -> bool {
        self.unknown.len() > self.spares.len()
    }

    /// Data cells of these members out of which spare cells are made, in order; `None` where one is unknown.
    pub fn whole(&self) -> Option<Vec<&[u8]>> {
        self.unknown.is_empty().then(|| self.cells().take(self.known.len()).collect())
    }

    fn cells(&self) -> impl Iterator<Item = &[u8]> {
        self.bytes.chunks_exact(self.cell_bytes.max(1))
    }

    fn spare_cell(&self, at: usize) -> &[u8] {
        self.cells().nth(self.known.len() + at).unwrap_or_default()
    }

    /// Recreates the cell of an unknown member in each way that there is, the likeliest first, until `accept` takes what came of it. The
    /// spare volumes of that way.
    pub fn recreate(
        &self,
        member: u8,
        into: &mut Vec<u8>,
        mut accept: impl FnMut(&mut [u8]) -> bool,
    ) -> Option<Vec<u32>> {
        let wanted = self.unknown.iter().position(|unknown| *unknown == member)?;
        into.resize(self.cell_bytes, 0);
        self.ways().find_map(|way| {
            self.sums(&way, &[])?.work_out(wanted, &self.inputs(&way), into);
            accept(into).then(|| self.numbers(&way))
        })
    }

    /// The spare volumes that were tried before others that a way uses, and not taken.
    pub fn passed_over(&self, used: &[u32]) -> Vec<u32> {
        let last = self.spares.iter().rposition(|(number, _)| used.contains(number)).unwrap_or(0);
        self.spares[..last].iter().map(|(number, _)| *number).filter(|number| !used.contains(number)).collect()
    }

    /// Recreates the cell of an unknown member where nothing proves what comes of it: the way in which most of the spare cells agree.
    pub fn recreate_unproven(&self, member: u8, into: &mut Vec<u8>) -> Verdict {
        let (verdict, way) = self.best_way();
        let wanted = self.unknown.iter().position(|unknown| *unknown == member);
        if let (Some(way), Some(wanted)) = (way, wanted)
            && let Some(sums) = self.sums(&way, &[])
        {
            into.resize(self.cell_bytes, 0);
            sums.work_out(wanted, &self.inputs(&way), into);
        }
        verdict
    }

    /// Recreates every unknown member in each way that there is until `genuine` takes all of them. The spare volumes whose cells that way
    /// contradicts; `None` where no way is taken.
    pub fn proven(&self, mut genuine: impl FnMut(u8, &[u8]) -> bool) -> Option<Vec<u32>> {
        let mut cell = vec![0; self.cell_bytes];
        let way = self.ways().find(|way| {
            let Some(sums) = self.sums(way, &[]) else { return false };
            let inputs = self.inputs(way);
            self.unknown.iter().enumerate().all(|(at, member)| {
                sums.work_out(at, &inputs, &mut cell);
                genuine(*member, &cell)
            })
        })?;
        let agreeing = self.agreeing(&way);
        Some((0..self.spares.len()).filter(|at| !agreeing.contains(at)).map(|at| self.spares[at].0).collect())
    }

    /// The spare volumes that have a cell in it.
    pub fn spares(&self) -> Vec<u32> {
        self.spares.iter().map(|(number, _)| *number).collect()
    }

    /// What the spare cells come to without the password.
    pub fn verdict(&self) -> Verdict {
        self.best_way().0
    }

    /// The way with which most of the other spare cells agree, where one is better than all that lead elsewhere.
    fn best_way(&self) -> (Verdict, Option<Way>) {
        if self.has_too_few() {
            return (Verdict::TooFew, None);
        }
        let mut best: Option<(Vec<usize>, Way)> = None;
        let mut is_disputed = false;
        for way in self.ways() {
            let agreeing = self.agreeing(&way);
            if agreeing.len() == self.spares.len() {
                return (Verdict::Enough(Vec::new()), Some(way));
            }
            match &best {
                Some((most, _)) if most.len() > agreeing.len() || *most == agreeing => {}
                Some((most, _)) if most.len() == agreeing.len() => is_disputed = true,
                _ => (best, is_disputed) = (Some((agreeing, way)), false),
            }
        }
        match best {
            // With nothing unknown, each spare cell is compared by itself.
            Some((agreeing, way)) if self.unknown.is_empty() || (!is_disputed && agreeing.len() > way.len()) => {
                let others = (0..self.spares.len()).filter(|at| !agreeing.contains(at));
                (Verdict::Enough(others.map(|at| self.spares[at].0).collect()), Some(way))
            }
            _ => (Verdict::Disputed, None),
        }
    }

    /// The spare cells that a way uses, and those that it foretells rightly; sorted.
    fn agreeing(&self, way: &[usize]) -> Vec<usize> {
        let others: Vec<usize> = (0..self.spares.len()).filter(|at| !way.contains(at)).collect();
        let mut agreeing = way.to_vec();
        if let Some(sums) = self.sums(way, &others) {
            let inputs = self.inputs(way);
            let mut foretold = vec![0; self.cell_bytes];
            for (sum, other) in (self.unknown.len()..).zip(others) {
                sums.work_out(sum, &inputs, &mut foretold);
                if foretold == self.spare_cell(other) {
                    agreeing.push(other);
                }
            }
        }
        agreeing.sort_unstable();
        agreeing
    }

    fn sums(&self, way: &[usize], foretold: &[usize]) -> Option<Sums> {
        let places = |chosen: &[usize]| chosen.iter().map(|at| self.spares[*at].1).collect::<Vec<u8>>();
        Sums::recreating(&self.known, &places(way), &self.unknown, &places(foretold))
    }

    fn inputs(&self, way: &[usize]) -> Vec<&[u8]> {
        self.cells().take(self.known.len()).chain(way.iter().map(|at| self.spare_cell(*at))).collect()
    }

    fn numbers(&self, way: &[usize]) -> Vec<u32> {
        way.iter().map(|at| self.spares[*at].0).collect()
    }

    /// Every choice of as many spare cells as there are unknown members, the first ones first.
    fn ways(&self) -> impl Iterator<Item = Way> + use<> {
        let (among, chosen) = (self.spares.len(), self.unknown.len());
        let first = (chosen <= among).then(|| (0..chosen).collect::<Way>());
        let next = move |way: &Way| {
            // The last one that can still move on does, and those behind it follow it.
            let at = (0..chosen).rev().find(|at| way[*at] < among - chosen + at)?;
            let from = way[at] + 1;
            Some(way[..at].iter().copied().chain(from..from + chosen - at).collect())
        };
        std::iter::successors(first, next).take(MAX_WAYS)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::convert::Infallible;

    const BYTES: usize = 96;

    fn cell(of: u8) -> Vec<u8> {
        (0..BYTES as u8).map(|at| at.wrapping_mul(29) ^ of.wrapping_mul(53)).collect()
    }

    /// Four members of which some are lost, and spare cells of some places, of which some are forged.
    fn column(lost: &[u8], places: &[u8], forged: &[u8]) -> Column {
        let mut column = Column::default();
        column.begin(BYTES);
        let give = |bytes: Option<Vec<u8>>| {
            move |into: &mut [u8]| {
                Ok::<_, Infallible>(bytes.map(|bytes| {
                    into[..bytes.len()].copy_from_slice(&bytes);
                    bytes.len()
                }))
            }
        };
        for member in 0..4 {
            let Ok(()) = column.take_member(member, give((!lost.contains(&member)).then(|| cell(member))));
        }
        let members: Vec<Vec<u8>> = (0..4).map(cell).collect();
        let members: Vec<&[u8]> = members.iter().map(Vec::as_slice).collect();
        for place in places {
            let mut spare = vec![0; BYTES];
            Sums::of_spares(&[*place], 4).work_out(0, &members, &mut spare);
            // Two that are forged in the same way agree with each other.
            if forged.contains(place) {
                let mut other = members.clone();
                let not_it = cell(77);
                other[1] = &not_it;
                Sums::of_spares(&[*place], 4).work_out(0, &other, &mut spare);
            }
            let Ok(()) = column.take_spare(u32::from(*place) + 1, *place, give(Some(spare)));
        }
        column
    }

    /// The spare volumes that were used, and those before them that were not.
    #[rstest]
    #[case(&[3], &[1, 2])]
    #[case(&[1, 3], &[2])]
    #[case(&[1], &[])]
    fn spare_volumes_that_did_not_serve_are_told(#[case] used: &[u32], #[case] expected: &[u32]) {
        let column = column(&[1], &[0, 1, 2], &[0, 1]);
        assert_eq!(column.recreate(1, &mut Vec::new(), |bytes| *bytes == cell(1)), Some(vec![3]));
        assert_eq!(column.passed_over(used), expected);
    }

    #[rstest]
    #[case::as_many_as_are_lost(&[1, 2], &[0, 1], &[], Verdict::Enough(vec![]))]
    #[case::too_few(&[1, 2], &[0], &[], Verdict::TooFew)]
    #[case::nothing_is_lost(&[], &[0, 1], &[], Verdict::Enough(vec![]))]
    #[case::nothing_is_lost_and_one_is_forged(&[], &[0, 1], &[1], Verdict::Enough(vec![2]))]
    #[case::one_of_three_is_forged(&[1], &[0, 1, 2], &[0], Verdict::Enough(vec![1]))]
    #[case::one_of_two_is_forged(&[1], &[0, 1], &[0], Verdict::Disputed)]
    #[case::two_of_four_agree_on_something_else(&[1], &[0, 1, 2, 3], &[0, 3], Verdict::Disputed)]
    #[case::two_of_five(&[1], &[0, 1, 2, 3, 4], &[0, 3], Verdict::Enough(vec![1, 4]))]
    fn spare_cells_that_others_contradict_are_named(
        #[case] lost: &[u8],
        #[case] places: &[u8],
        #[case] forged: &[u8],
        #[case] expected: Verdict,
    ) {
        let column = column(lost, places, forged);
        assert_eq!(column.verdict(), expected);
        for member in lost {
            let mut recreated = Vec::new();
            assert_eq!(column.recreate_unproven(*member, &mut recreated), expected);
            assert_eq!(recreated == cell(*member), matches!(expected, Verdict::Enough(_)));
            // With something that proves it, nothing needs to agree.
            let honest = places.iter().filter(|place| !forged.contains(place)).count();
            let used = column.recreate(*member, &mut recreated, |bytes| *bytes == cell(*member));
            assert_eq!(used.is_some_and(|used| used.len() == lost.len()), honest >= lost.len());
        }
    }
}
