//! The arithmetic of spare volumes: every cell of one is a sum of multiples of data cells, byte by byte, in the field of 256 elements.
//! The multipliers are a Cauchy matrix, of which every square part can be inverted: any cells of a column can be recreated from as many
//! spare ones. docs/format.md (1.6) gives the field and the matrix.

/// x^8 + x^4 + x^3 + x^2 + 1 without its highest power: what a byte that is doubled beyond 255 is reduced by.
const POLYNOMIAL: u8 = 0x1D;

/// The most data volumes of a group.
pub const MAX_MEMBERS: u32 = 200;

/// The most spare volumes of a group: beyond, `255 - place` would be the number of a member.
pub const MAX_PLACES: u32 = 56;

/// How many bytes of each cell are worked on at a time, so that they stay in the processor's cache.
const CHUNK_BYTES: usize = 4_096;

/// Powers of 2 and their logarithms, by which two elements are multiplied.
struct Tables {
    power: [u8; 255],
    logarithm: [u8; 256],
}

const TABLES: Tables = {
    let mut tables = Tables { power: [0; 255], logarithm: [0; 256] };
    let (mut element, mut exponent) = (1, 0);
    while exponent < 255 {
        tables.power[exponent] = element;
        tables.logarithm[element as usize] = exponent as u8;
        element = doubled(element);
        exponent += 1;
    }
    tables
};

const fn doubled(element: u8) -> u8 {
    // The top bit, as a mask of eight.
    let overflow = ((element as i8) >> 7) as u8;
    (element << 1) ^ (overflow & POLYNOMIAL)
}

fn product(one: u8, other: u8) -> u8 {
    if one == 0 || other == 0 {
        return 0;
    }
    let exponent = usize::from(TABLES.logarithm[usize::from(one)]) + usize::from(TABLES.logarithm[usize::from(other)]);
    TABLES.power[exponent % 255]
}

/// 1 / element; 0 for 0, which has none.
fn inverse(element: u8) -> u8 {
    match element {
        0 => 0,
        _ => TABLES.power[(255 - usize::from(TABLES.logarithm[usize::from(element)])) % 255],
    }
}

/// What the data cell of a group's member is multiplied by in the spare cell of a place; both count from 0.
pub fn multiplier(place: u8, member: u8) -> u8 {
    inverse((255 - place) ^ member)
}

/// Sums of multiples of the same cells, as rows of multipliers: one row for each sum, one column for each cell.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sums(Vec<Vec<u8>>);

impl Sums {
    /// Spare cells of these places, out of the data cells of so many members.
    pub fn of_spares(places: &[u8], members: u8) -> Self {
        Self(places.iter().map(|place| (0..members).map(|member| multiplier(*place, member)).collect()).collect())
    }

    /// Cells that are not here, out of those that are: the data cells of the members `known`, followed by the spare cells of `places`, of
    /// which there are as many as `unknown` members. The sums are the data cells of `unknown`, followed by the spare cells of
    /// `foretold`, so that others of these can be compared. `None` where the numbers do not make a matrix that can be inverted.
    pub fn recreating(known: &[u8], places: &[u8], unknown: &[u8], foretold: &[u8]) -> Option<Self> {
        let matrix = places.iter().map(|place| unknown.iter().map(|member| multiplier(*place, *member)).collect());
        let solved = inverted(matrix.collect())?;
        let inputs = known.len() + places.len();
        let mut rows: Vec<Vec<u8>> = Vec::with_capacity(unknown.len() + foretold.len());
        for weights in &solved {
            // What the known members add to the spare cells is taken off them first. Taking off is adding here.
            let of_known = known.iter().map(|member| {
                let added =
                    places.iter().zip(weights).map(|(place, weight)| product(*weight, multiplier(*place, *member)));
                added.fold(0, |sum, one| sum ^ one)
            });
            rows.push(of_known.chain(weights.iter().copied()).collect());
        }
        for place in foretold {
            let mut row = vec![0; inputs];
            for (multiplied, member) in row.iter_mut().zip(known) {
                *multiplied = multiplier(*place, *member);
            }
            for (recreated, member) in rows.iter().zip(unknown) {
                let by = multiplier(*place, *member);
                row.iter_mut().zip(recreated).for_each(|(sum, one)| *sum ^= product(by, *one));
            }
            rows.push(row);
        }
        Some(Self(rows))
    }

    /// Works out one sum of these cells, which are as long as it is.
    ///
    /// A multiple of a cell is the sum of those of its doublings that its multiplier has a bit for. The bits are gone through from the
    /// highest, and what has been summed up is doubled between them, so that nothing but sums and doublings of whole cells is needed.
    pub fn work_out(&self, sum: usize, cells: &[&[u8]], into: &mut [u8]) {
        let Some(row) = self.0.get(sum) else { return };
        for (chunk, into) in into.chunks_mut(CHUNK_BYTES).enumerate() {
            let at = chunk * CHUNK_BYTES;
            into.fill(0);
            for bit in (0..8).rev() {
                into.iter_mut().for_each(|byte| *byte = doubled(*byte));
                for (multiplier, cell) in row.iter().zip(cells) {
                    if multiplier >> bit & 1 == 1 {
                        add(&cell[at..at + into.len()], into);
                    }
                }
            }
        }
    }
}

fn add(one: &[u8], to: &mut [u8]) {
    to.iter_mut().zip(one).for_each(|(sum, byte)| *sum ^= byte);
}

/// The inverse of a square matrix, by Gauss and Jordan; `None` where there is none.
fn inverted(mut matrix: Vec<Vec<u8>>) -> Option<Vec<Vec<u8>>> {
    let size = matrix.len();
    if matrix.iter().any(|row| row.len() != size) {
        return None;
    }
    let mut inverse_rows: Vec<Vec<u8>> =
        (0..size).map(|row| (0..size).map(|at| u8::from(at == row)).collect()).collect();
    for column in 0..size {
        let pivot = (column..size).find(|row| matrix[*row][column] != 0)?;
        matrix.swap(column, pivot);
        inverse_rows.swap(column, pivot);
        let by = inverse(matrix[column][column]);
        for row in [&mut matrix[column], &mut inverse_rows[column]] {
            row.iter_mut().for_each(|element| *element = product(*element, by));
        }
        for row in (0..size).filter(|row| *row != column) {
            let by = matrix[row][column];
            for rows in [&mut matrix, &mut inverse_rows] {
                let pivot_row = rows[column].clone();
                rows[row].iter_mut().zip(pivot_row).for_each(|(element, other)| *element ^= product(by, other));
            }
        }
    }
    Some(inverse_rows)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    /// Worked out with pencil and paper from the polynomial.
    #[rstest]
    #[case(2, 0x80, 0x1D)]
    #[case(3, 7, 9)]
    #[case(0x53, 0, 0)]
    #[case(0x8E, 2, 1)]
    fn products_are_those_of_the_field(#[case] one: u8, #[case] other: u8, #[case] expected: u8) {
        assert_eq!(product(one, other), expected);
    }

    #[test]
    fn every_element_but_zero_has_an_inverse() {
        assert!((1..=255).all(|element| product(element, inverse(element)) == 1));
    }

    /// 1 / 255, 1 / 254 and 1 / 254, 1 / 255: the page's first four multipliers.
    #[test]
    fn the_matrix_is_that_of_the_page() {
        let four = [(0, 0), (0, 1), (1, 0), (1, 1)].map(|(place, member)| multiplier(place, member));
        assert_eq!(four, [0xFD, 0x7E, 0x7E, 0xFD]);
        let all = |place| (0..MAX_MEMBERS as u8).map(move |member| multiplier(place, member));
        assert!((0..MAX_PLACES as u8).all(|place| all(place).all(|multiplier| multiplier != 0)));
    }

    proptest! {
        #[test]
        fn any_members_come_back_out_of_as_many_spares(
            members in 1_u8..40,
            lost in prop::collection::btree_set(0_u8..40, 1..6),
            places in prop::collection::btree_set(0_u8..MAX_PLACES as u8, 8),
            seed in any::<u8>(),
        ) {
            let bytes = CHUNK_BYTES + 3;
            let cell = |member: u8| (0..bytes).map(|at| (at as u8).wrapping_mul(seed | 1) ^ member.wrapping_mul(91)).collect::<Vec<u8>>();
            let cells: Vec<Vec<u8>> = (0..members).map(cell).collect();
            let places: Vec<u8> = places.into_iter().collect();
            let making = Sums::of_spares(&places, members);
            let all: Vec<&[u8]> = cells.iter().map(Vec::as_slice).collect();
            let mut spares = vec![vec![0; bytes]; places.len()];
            spares.iter_mut().enumerate().for_each(|(sum, into)| making.work_out(sum, &all, into));

            let (unknown, known): (Vec<u8>, Vec<u8>) = (0..members).partition(|member| lost.contains(member));
            let (used, foretold) = places.split_at(unknown.len());
            let sums = Sums::recreating(&known, used, &unknown, foretold).unwrap();
            prop_assert_eq!(sums.0.len(), places.len());
            let inputs: Vec<&[u8]> = known.iter().map(|member| all[usize::from(*member)]).chain(spares.iter().take(used.len()).map(Vec::as_slice)).collect();
            let expected = unknown.iter().map(|member| &cells[usize::from(*member)]).chain(&spares[used.len()..]);
            for (sum, expected) in expected.enumerate() {
                let mut got = vec![0; bytes];
                sums.work_out(sum, &inputs, &mut got);
                prop_assert_eq!(&got, expected);
            }
        }
    }
}
