//! LZMA2 in one .xz stream, behind the filter that a block profits from: the slow squeezes' codec.
//!
//! The stream is that of the published .xz file format, version 1.2.1, with one block and no check of its own. A filter
//! changes bytes so that they repeat more often, and is found by trying on a sample. Decompression takes only what
//! docs/format.md lists, so that every reader takes the same streams.

use super::entropy::bits_a_byte;
use super::error::CodecError;
use liblzma::stream::{Action, Check, Filters, LzmaOptions, MatchFinder, Mode, Status, Stream};

/// How much work is put into finding repetitions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effort {
    /// A third of [`Self::Full`]'s time or less, for two to four hundredths more bytes.
    Brief,
    /// As much as pays.
    Full,
}

/// What is done to a block before it is compressed, and undone behind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Filter {
    /// Nothing.
    None,
    /// Addresses in programs for x86 processors, 32 and 64 bits, become absolute.
    X86,
    /// The same for 64-bit ARM processors, whose instructions begin at multiples of four bytes.
    Arm64,
    /// Each byte becomes its difference from the one so many bytes before, 1 to 255: for sound and pictures.
    Delta(u8),
}

/// The distances that are tried: samples of 8, 16, 24 and 32 bits in one channel or more.
const DISTANCES: [u8; 6] = [1, 2, 3, 4, 6, 8];

/// How many stretches of a block a filter is looked for in, and how long each is at the most, in bytes.
const STRETCHES: usize = 16;
const STRETCH_BYTES: usize = 8 * 1024;

/// At most this part of a block is looked at: that must not take long beside compressing.
const LOOKED_AT_PART: usize = 8;

/// What a distance must leave of the entropy of single bytes, and in how many stretches: in tables inside a program it does so
/// too, and may harm the rest. Where it does in most, it is taken; where in some, it is tried on the whole block.
const PROMISING_ENTROPY: f64 = 0.95;
const MOST_STRETCHES: usize = 13;
const SOME_STRETCHES: usize = 4;

/// What a distance must leave of the stretches' compressed length: repetitions that lie farther apart than those are long are
/// lost by it.
const WORTHWHILE_DELTA: f64 = 0.97;

/// One byte in so many begins an address in a program for x86, one instruction in so many for ARM, or more often. There the
/// filter pays, and elsewhere it does next to no harm; short stretches do not show it.
const X86_ADDRESSES: usize = 400;
const ARM64_ADDRESSES: usize = 60;

/// No block needs a dictionary beyond this, in bytes.
const MIN_DICTIONARY_BYTES: usize = 64 * 1024;

/// The .xz file format, 1.2.1, 2.1.1: magic, and the stream flags for "no check". Their CRC32 follows.
const STREAM_HEADER: [u8; 8] = [0xFD, b'7', b'z', b'X', b'Z', 0, 0, 0];
const STREAM_HEADER_BYTES: usize = 12;

/// The same, 2.1.2.
const STREAM_FOOTER_BYTES: usize = 12;

/// The same, 5.3: filter numbers.
const DELTA: u64 = 0x03;
const X86: u64 = 0x04;
const ARM64: u64 = 0x0A;
const LZMA2: u64 = 0x21;

/// The largest dictionary, in bytes, and the number by which a stream tells it (the same, 5.3.1).
const MAX_DICTIONARY_BYTES: usize = 8 * 1024 * 1024;
const MAX_DICTIONARY: u8 = 22;

/// What a decoder of the largest dictionary takes at the most, in bytes.
const DECODER_BYTES: u64 = 16 * 1024 * 1024;

/// The filters that a block is compressed behind.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Promising {
    /// What a sample speaks for; [`Filter::None`] where it speaks for none.
    pub likely: Filter,
    /// What may leave less, which only the whole block shows.
    pub other: Option<Filter>,
}

impl Promising {
    /// Those that a block is compressed behind, one after the other.
    pub fn to_try(self) -> impl Iterator<Item = Filter> {
        [self.likely].into_iter().chain(self.other)
    }
}

/// The filters that a sample of a block speaks for.
///
/// # Errors
/// [`CodecError::Compressor`].
pub fn promising(block: &[u8]) -> Result<Promising, CodecError> {
    let sample = sample(block);
    if sample.len() < STRETCHES {
        return Ok(Promising { likely: Filter::None, other: None });
    }
    let processor = processor(&sample);
    if let Some((filter, stretches)) = promising_delta(&sample) {
        let plain = tried(&sample, Filter::None)? as f64;
        if (tried(&sample, filter)? as f64) < WORTHWHILE_DELTA * plain {
            return Ok(match stretches >= MOST_STRETCHES {
                true => Promising { likely: filter, other: None },
                false => Promising { likely: processor, other: Some(filter) },
            });
        }
    }
    Ok(Promising { likely: processor, other: None })
}

/// Evenly spaced stretches of a block, each beginning at a multiple of four bytes; fewer of a block that is too short.
fn sample(block: &[u8]) -> Vec<&[u8]> {
    let step = (block.len() / STRETCHES).max(4) & !3;
    let length = (block.len() / LOOKED_AT_PART / STRETCHES).min(STRETCH_BYTES);
    let stretches = block.chunks(step).take(STRETCHES).map(|stretch| &stretch[..stretch.len().min(length)]);
    stretches.filter(|stretch| stretch.len() >= 2 * usize::from(DISTANCES[DISTANCES.len() - 1])).collect()
}

/// The distance at which bytes are most alike, and in how many stretches they are.
fn promising_delta(sample: &[&[u8]]) -> Option<(Filter, usize)> {
    let plain: Vec<f64> = sample.iter().map(|stretch| entropy(stretch, 0)).collect();
    let of = |distance: &u8| {
        let behind = sample.iter().map(|stretch| entropy(stretch, usize::from(*distance)));
        let kept: Vec<(f64, f64)> = behind.zip(plain.iter().copied()).collect();
        let promising = kept.iter().filter(|(behind, plain)| *behind < PROMISING_ENTROPY * plain).count();
        let behind = kept.iter().map(|(behind, _)| behind).sum::<f64>();
        (promising >= SOME_STRETCHES).then_some((*distance, promising, behind))
    };
    let best = DISTANCES.iter().filter_map(of).min_by(|one, other| one.2.total_cmp(&other.2))?;
    Some((Filter::Delta(best.0), best.1))
}

/// The filter for the processor that a program is for.
fn processor(sample: &[&[u8]]) -> Filter {
    let length = sample.iter().map(|stretch| stretch.len()).sum::<usize>();
    let count = |addresses: &dyn Fn(&[u8]) -> usize| sample.iter().map(|stretch| addresses(stretch)).sum::<usize>();
    // CALL and JMP with a distance of 32 bits, the highest byte of which says little.
    let is_x86 = |five: &&[u8]| matches!(five[0], 0xE8 | 0xE9) && matches!(five[4], 0 | 0xFF);
    // BL, with a distance of 26 bits.
    let is_arm64 = |word: &&[u8]| word[3] >> 2 == 0b10_0101;
    if count(&|stretch| stretch.windows(5).filter(is_x86).count()) * X86_ADDRESSES >= length {
        Filter::X86
    } else if count(&|stretch| stretch.chunks_exact(4).filter(is_arm64).count()) * ARM64_ADDRESSES >= length / 4 {
        Filter::Arm64
    } else {
        Filter::None
    }
}

/// The entropy of a stretch's bytes, each by itself, in bits: 0 to 8; of their differences where a distance is given.
fn entropy(stretch: &[u8], distance: usize) -> f64 {
    if distance == 0 {
        return bits_a_byte(stretch.iter().copied());
    }
    let pairs = stretch.iter().zip(stretch.get(distance..).unwrap_or_default());
    bits_a_byte(pairs.map(|(before, byte)| byte.wrapping_sub(*before)))
}

/// What the sample comes to behind a filter, compressed fast.
fn tried(sample: &[&[u8]], filter: Filter) -> Result<usize, CodecError> {
    let block = sample.concat();
    let mut output = Vec::with_capacity(block.len());
    let mut options = LzmaOptions::new_preset(1).map_err(no_memory)?;
    options.dict_size(dictionary_bytes(block.len()));
    Ok(if compress_with(&options, filter, &block, &mut output)? { output.len() } else { block.len() })
}

/// Compresses a block into the room that `output` has; whether it was enough. `output` is empty where it was not.
///
/// # Errors
/// [`CodecError::Compressor`].
pub fn compress(block: &[u8], filter: Filter, effort: Effort, output: &mut Vec<u8>) -> Result<bool, CodecError> {
    let mut options = LzmaOptions::new_preset(6).map_err(no_memory)?;
    options.dict_size(dictionary_bytes(block.len()));
    match effort {
        Effort::Brief => {
            options.match_finder(MatchFinder::HashChain4).mode(Mode::Normal).nice_len(24).depth(1);
        }
        Effort::Full => {
            options.match_finder(MatchFinder::BinaryTree4).mode(Mode::Normal).nice_len(128).depth(48);
        }
    }
    // Samples of two and four bytes are alike at the same place in each.
    match filter {
        Filter::Delta(2 | 6) => options.literal_context_bits(3).literal_position_bits(1).position_bits(1),
        Filter::Delta(4 | 8) => options.literal_context_bits(2).literal_position_bits(2).position_bits(2),
        _ => &mut options,
    };
    compress_with(&options, filter, block, output)
}

fn compress_with(
    options: &LzmaOptions,
    filter: Filter,
    block: &[u8],
    output: &mut Vec<u8>,
) -> Result<bool, CodecError> {
    output.clear();
    let mut filters = Filters::new();
    match filter {
        Filter::None => &mut filters,
        Filter::X86 => filters.x86(),
        Filter::Arm64 => filters.arm64(),
        Filter::Delta(distance) => filters.delta_properties(&[distance.saturating_sub(1)]).map_err(no_memory)?,
    };
    filters.lzma2(options);
    let mut stream = Stream::new_stream_encoder(&filters, Check::None).map_err(no_memory)?;
    match stream.process_vec(block, output, Action::Finish) {
        Ok(Status::StreamEnd) => Ok(true),
        // It stops before the end only for want of room.
        Ok(_) => {
            output.clear();
            Ok(false)
        }
        Err(error) => Err(no_memory(error)),
    }
}

/// The smallest dictionary that holds all of a block, of those that a stream can tell (5.3.1).
fn dictionary_bytes(length: usize) -> u32 {
    let power = length.clamp(MIN_DICTIONARY_BYTES, MAX_DICTIONARY_BYTES).next_power_of_two();
    let smaller = power / 4 * 3;
    (if length <= smaller { smaller } else { power }) as u32
}

fn no_memory<E>(_: E) -> CodecError {
    CodecError::Compressor
}

/// Puts the block's bytes, which must be exactly `length` long, into `output`.
///
/// # Errors
/// [`CodecError::Malformed`] also for a stream that is well formed and is not one of those that docs/format.md lists.
pub fn decompress(stored: &[u8], length: usize, output: &mut Vec<u8>) -> Result<(), CodecError> {
    output.clear();
    if !is_one_stream(stored) {
        return Err(CodecError::Malformed);
    }
    // One byte more than it should need tells a stream that is too long.
    output.try_reserve(length + 1).map_err(no_memory)?;
    let mut stream = Stream::new_stream_decoder(DECODER_BYTES, 0).map_err(no_memory)?;
    let status = stream.process_vec(stored, output, Action::Finish);
    let is_whole =
        matches!(status, Ok(Status::StreamEnd)) && output.len() == length && stream.total_in() == stored.len() as u64;
    if is_whole {
        return Ok(());
    }
    output.clear();
    Err(CodecError::Malformed)
}

/// Whether the bytes begin and end as a stream without a check, of one block, in which LZMA2 comes behind no other filters
/// than [`Filter`] knows, with a dictionary of at most [`MAX_DICTIONARY_BYTES`].
fn is_one_stream(stored: &[u8]) -> bool {
    stored.starts_with(&STREAM_HEADER) && has_known_filters(stored).is_some() && has_one_block(stored).is_some()
}

/// The block's header (3.1).
fn has_known_filters(stored: &[u8]) -> Option<()> {
    let header = stored.get(STREAM_HEADER_BYTES..)?;
    let length = (usize::from(*header.first()?) + 1) * 4;
    let mut fields = header.get(1..length)?;
    let (&flags, rest) = fields.split_first()?;
    fields = rest;
    for size_is_there in [flags & 0x40 != 0, flags & 0x80 != 0] {
        if size_is_there {
            integer(&mut fields)?;
        }
    }
    let before = flags & 0x03;
    for _ in 0..before {
        match (integer(&mut fields)?, properties(&mut fields)?) {
            (DELTA, [_]) | (X86 | ARM64, []) => {}
            _ => return None,
        }
    }
    match (integer(&mut fields)?, properties(&mut fields)?) {
        (LZMA2, [dictionary]) if before <= 1 && *dictionary <= MAX_DICTIONARY => Some(()),
        _ => None,
    }
}

/// The index says of how many blocks the stream is made (4.2), and the footer where it begins (2.1.2.2).
fn has_one_block(stored: &[u8]) -> Option<()> {
    let footer_at = stored.len().checked_sub(STREAM_FOOTER_BYTES)?;
    let backward = stored.get(footer_at + 4..footer_at + 8)?;
    let index_bytes = (u64::from(u32::from_le_bytes(backward.try_into().ok()?)) + 1) * 4;
    let index_at = footer_at.checked_sub(usize::try_from(index_bytes).ok()?)?;
    let mut index = stored.get(index_at + 1..footer_at)?;
    (integer(&mut index)? == 1).then_some(())
}

/// A multibyte integer (1.2).
fn integer(fields: &mut &[u8]) -> Option<u64> {
    let mut value = 0;
    for place in 0..9 {
        let (&byte, rest) = fields.split_first()?;
        *fields = rest;
        value |= u64::from(byte & 0x7F) << (7 * place);
        if byte & 0x80 == 0 {
            return Some(value);
        }
    }
    None
}

/// A filter's properties: their length, then they.
fn properties<'a>(fields: &mut &'a [u8]) -> Option<&'a [u8]> {
    let length = usize::try_from(integer(fields)?).ok()?;
    let (properties, rest) = fields.split_at_checked(length)?;
    *fields = rest;
    Some(properties)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn noise(length: usize) -> Vec<u8> {
        let mut bytes = vec![0; length];
        blake3::Hasher::new().finalize_xof().fill(&mut bytes);
        bytes
    }

    /// Words between numbers, in which nothing is at equal distances.
    fn text(length: usize) -> Vec<u8> {
        let line =
            |(place, die): (usize, &u8)| format!("{} steps to the lamp {}\n", die, &"mortar and lime"[..place % 15]);
        noise(length / 16).iter().enumerate().map(line).collect::<String>().into_bytes()
    }

    /// One procedure after another, each of which calls one of forty, with distances that differ from place to place.
    fn program(length: usize, put_call: fn(&mut Vec<u8>, i64)) -> Vec<u8> {
        let mut bytes = Vec::new();
        for dice in noise(length).chunks_exact(16) {
            let before = usize::from(dice[15] % 3 + 1) * 4;
            bytes.extend(dice[..before].iter().map(|die| die & 0x1F));
            let distance = i64::from(dice[14] % 40) * 4_000 - bytes.len() as i64;
            put_call(&mut bytes, distance);
        }
        bytes
    }

    fn x86(length: usize) -> Vec<u8> {
        program(length, |bytes, distance| {
            bytes.push(0xE8);
            bytes.extend((distance as i32).to_le_bytes());
        })
    }

    fn arm64(length: usize) -> Vec<u8> {
        program(length, |bytes, distance| {
            let words = (distance / 4) as u32 & 0x03FF_FFFF;
            bytes.extend((0x9400_0000 | words).to_le_bytes());
        })
    }

    /// A rising and falling tone in two channels of 16 bits.
    fn sound(length: usize) -> Vec<u8> {
        let dice = noise(length / 2);
        let sample = |(place, die): (usize, &u8)| {
            let seconds = (place / 2) as f64 / 44_100.0;
            let tone =
                (900.0 * seconds + 4_000.0 * seconds * seconds).sin() * 9_000.0 * (1.0 - (place % 2) as f64 / 3.0);
            (tone as i16 + i16::from(die % 32)).to_le_bytes()
        };
        dice.iter().enumerate().flat_map(sample).collect()
    }

    fn compressed(block: &[u8], filter: Filter, effort: Effort) -> Vec<u8> {
        let mut output = Vec::with_capacity(block.len());
        assert_eq!(compress(block, filter, effort, &mut output), Ok(true));
        output
    }

    /// The filter that a content is made for is found, makes it shorter than none, and comes back.
    #[rstest]
    #[case::text(text(300_000), Filter::None)]
    #[case::x86(x86(300_000), Filter::X86)]
    #[case::arm64(arm64(300_000), Filter::Arm64)]
    #[case::sound(sound(300_000), Filter::Delta(4))]
    #[case::short(vec![7; 40], Filter::None)]
    fn a_content_gets_its_filter_and_comes_back(
        #[case] block: Vec<u8>,
        #[case] filter: Filter,
        #[values(Effort::Brief, Effort::Full)] effort: Effort,
    ) {
        assert_eq!(promising(&block).map(|found| found.likely), Ok(filter));
        let mut output = Vec::new();
        if block.len() > 100 {
            let stored = compressed(&block, filter, effort);
            assert!(filter == Filter::None || stored.len() < compressed(&block, Filter::None, effort).len());
            decompress(&stored, block.len(), &mut output).unwrap();
            assert_eq!(output, block);
            assert_eq!(decompress(&stored, block.len() - 1, &mut output), Err(CodecError::Malformed));
            assert_eq!(decompress(&stored, block.len() + 1, &mut output), Err(CodecError::Malformed));
        }
        let mut too_short = Vec::with_capacity(20);
        assert_eq!(compress(&noise(3_000), filter, effort, &mut too_short), Ok(false));
    }

    fn stream(make: impl FnOnce(&mut Filters, &mut LzmaOptions), check: Check) -> Vec<u8> {
        let (mut filters, mut options) = (Filters::new(), LzmaOptions::new_preset(1).unwrap());
        make(&mut filters, &mut options);
        filters.lzma2(&options);
        let mut output = Vec::with_capacity(40_000);
        let mut stream = Stream::new_stream_encoder(&filters, check).unwrap();
        assert_eq!(stream.process_vec(&text(30_000)[..30_000], &mut output, Action::Finish), Ok(Status::StreamEnd));
        output
    }

    fn plain() -> Vec<u8> {
        stream(|_, _| {}, Check::None)
    }

    /// Streams of the published format that a reader written from our page does not know.
    #[rstest]
    #[case::a_check(stream(|_, _| {}, Check::Crc64))]
    #[case::another_filter(stream(|filters, _| { filters.sparc(); }, Check::None))]
    #[case::two_filters(stream(|filters, _| { filters.x86().arm64(); }, Check::None))]
    #[case::a_larger_dictionary(stream(|_, options| { options.dict_size(12 << 20); }, Check::None))]
    #[case::two_streams([plain(), plain()].concat())]
    #[case::padding_behind([plain(), vec![0; 4]].concat())]
    #[case::cut_short(plain()[..plain().len() - 1].to_vec())]
    #[case::nothing(Vec::new())]
    fn any_other_stream_is_refused(#[case] stored: Vec<u8>) {
        assert_eq!(decompress(&plain(), 30_000, &mut Vec::new()), Ok(()));
        let mut output = Vec::new();
        assert_eq!(decompress(&stored, 30_000, &mut output), Err(CodecError::Malformed));
        assert!(output.is_empty() && output.capacity() <= 60_002);
    }

    #[test]
    fn two_blocks_are_refused() {
        let (text, mut stored) = (text(30_000), Vec::with_capacity(40_000));
        let (mut filters, options) = (Filters::new(), LzmaOptions::new_preset(1).unwrap());
        filters.lzma2(&options);
        let mut stream = Stream::new_stream_encoder(&filters, Check::None).unwrap();
        while stream.process_vec(&text[stream.total_in() as usize..15_000], &mut stored, Action::FullFlush)
            != Ok(Status::StreamEnd)
        {}
        stream.process_vec(&text[15_000..30_000], &mut stored, Action::Finish).unwrap();
        assert_eq!(decompress(&stored, 30_000, &mut Vec::new()), Err(CodecError::Malformed));
    }
}
