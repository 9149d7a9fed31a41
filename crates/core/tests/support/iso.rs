//! Disc images made record by record, as ECMA-119 has them, for readers to be tried on.

pub const SECTOR: usize = 2_048;

/// The block behind the descriptors in which fields may go on.
pub const BEYOND: u32 = 19;

/// The block of the topmost folder; folders follow in the order in which they are met, each with what is in it behind it.
pub const ROOT: u32 = 20;

/// A record and what it stands for.
#[derive(Debug, Clone)]
pub struct Node {
    pub name: Vec<u8>,
    pub flags: u8,
    pub system_use: Vec<u8>,
    /// Bytes of a file, in each of the places where it lies.
    pub contents: Vec<Vec<u8>>,
    pub children: Vec<Node>,
}

/// A disc.
#[derive(Clone, Default)]
pub struct Disc {
    pub root: Vec<Node>,
    /// What the topmost folder's own record says besides.
    pub root_use: Vec<u8>,
    /// The same for readers of Joliet, if there is such a tree.
    pub joliet: Option<Vec<Node>>,
    /// What stands in block [`BEYOND`].
    pub beyond: Vec<u8>,
}

pub fn file(name: &str, content: &[u8]) -> Node {
    Node { name: name.into(), flags: 0, system_use: Vec::new(), contents: vec![content.to_vec()], children: Vec::new() }
}

pub fn folder(name: &str, children: Vec<Node>) -> Node {
    Node { flags: 2, contents: Vec::new(), children, ..file(name, b"") }
}

impl Node {
    pub fn using(mut self, fields: &[Vec<u8>]) -> Self {
        self.system_use = fields.concat();
        self
    }

    pub fn wide(mut self) -> Self {
        let name = String::from_utf8(self.name).unwrap();
        self.name = name.encode_utf16().flat_map(u16::to_be_bytes).collect();
        self
    }
}

/// A field of a system-use area.
pub fn field(signature: &[u8; 2], data: &[u8]) -> Vec<u8> {
    [signature, &[(data.len() + 4) as u8, 1][..], data].concat()
}

pub fn both(number: u32) -> Vec<u8> {
    [number.to_le_bytes(), number.to_be_bytes()].concat()
}

/// A name, a mode, and where fields go on.
pub fn named(name: &str) -> Vec<u8> {
    field(b"NM", &[b"\0", name.as_bytes()].concat())
}

pub fn mode(mode: u32) -> Vec<u8> {
    field(b"PX", &[both(mode), both(1), both(0), both(0)].concat())
}

pub fn goes_on(bytes: usize) -> Vec<u8> {
    field(b"CE", &[both(BEYOND), both(0), both(bytes as u32)].concat())
}

/// What announces Rock Ridge.
pub fn announced() -> Vec<u8> {
    let identifiers = b"\x0A\x04\x03\x01RRIP_1991Adesc---";
    [field(b"SP", &[0xBE, 0xEF, 0]), mode(0o40_755), field(b"ER", identifiers)].concat()
}

impl Disc {
    pub fn with_rock_ridge(root: Vec<Node>) -> Self {
        Self { root, root_use: announced(), ..Self::default() }
    }

    /// The image's bytes.
    pub fn bytes(&self) -> Vec<u8> {
        let mut image = vec![0; (ROOT as usize) * SECTOR];
        image[BEYOND as usize * SECTOR..][..self.beyond.len()].copy_from_slice(&self.beyond);
        let root = lay(&mut image, &self.root, &self.root_use);
        descriptor(&mut image, 16, 1, b"", root, b"WRENFALL LIGHT".to_vec());
        let mut end = 17;
        if let Some(joliet) = &self.joliet {
            let root = lay(&mut image, joliet, b"");
            let label: Vec<u8> = "Wrenfall Light".encode_utf16().flat_map(u16::to_be_bytes).collect();
            descriptor(&mut image, 17, 2, b"%/E", root, label);
            end = 18;
        }
        image[end * SECTOR..][..7].copy_from_slice(b"\xFFCD001\x01");
        image
    }
}

fn descriptor(image: &mut [u8], number: usize, kind: u8, escape: &[u8], (block, bytes): (u32, u32), label: Vec<u8>) {
    let blocks = (image.len() / SECTOR) as u32;
    let sector = &mut image[number * SECTOR..][..SECTOR];
    sector[0] = kind;
    sector[1..7].copy_from_slice(b"CD001\x01");
    sector[40..72].fill(if escape.is_empty() { b' ' } else { 0 });
    sector[40..40 + label.len()].copy_from_slice(&label);
    sector[80..88].copy_from_slice(&both(blocks));
    sector[88..88 + escape.len()].copy_from_slice(escape);
    sector[120..124].copy_from_slice(&[1, 0, 0, 1]);
    sector[128..132].copy_from_slice(&[0, 8, 8, 0]);
    sector[156..190].copy_from_slice(&record(b"\0", 2, block, bytes, b""));
}

/// One record; 2031-03-04 05:06:07 in the zone that is one hour ahead.
fn record(name: &[u8], flags: u8, block: u32, bytes: u32, system_use: &[u8]) -> Vec<u8> {
    let mut record = vec![0, 0];
    record.extend([both(block), both(bytes)].concat());
    record.extend([131, 3, 4, 5, 6, 7, 4, flags, 0, 0, 1, 0, 0, 1, name.len() as u8]);
    record.extend(name);
    record.resize(record.len().next_multiple_of(2), 0);
    record.extend(system_use);
    record.resize(record.len().next_multiple_of(2), 0);
    record[0] = record.len() as u8;
    record
}

/// Puts bytes where a block begins.
fn put(image: &mut Vec<u8>, bytes: &[u8]) -> u32 {
    let block = (image.len() / SECTOR) as u32;
    image.extend(bytes);
    image.resize(image.len().next_multiple_of(SECTOR), 0);
    block
}

/// Puts a folder and all that is in it; where, and how long it is.
fn lay(image: &mut Vec<u8>, children: &[Node], own_use: &[u8]) -> (u32, u32) {
    // Records have their lengths before it is known where what they stand for lies.
    let places = vec![vec![(0, 0); 9]; children.len()];
    let length = records(children, &places, (0, 0), own_use).len();
    let own = (put(image, &vec![0; length]), length as u32);
    let place = |image: &mut Vec<u8>, child: &Node| match child.flags & 2 {
        0 => child.contents.iter().map(|content| (put(image, content), content.len() as u32)).collect(),
        _ => vec![lay(image, &child.children, b"")],
    };
    let places: Vec<Vec<(u32, u32)>> = children.iter().map(|child| place(image, child)).collect();
    image[own.0 as usize * SECTOR..][..length].copy_from_slice(&records(children, &places, own, own_use));
    own
}

/// A folder's records, none over the edge of a sector.
fn records(children: &[Node], places: &[Vec<(u32, u32)>], own: (u32, u32), own_use: &[u8]) -> Vec<u8> {
    let mut all = record(b"\0", 2, own.0, own.1, own_use);
    all.extend(record(b"\x01", 2, own.0, own.1, b""));
    for (child, places) in children.iter().zip(places) {
        let count = child.contents.len().max(1);
        for (number, (block, bytes)) in places.iter().take(count).enumerate() {
            let flags = if number + 1 < count { child.flags | 0x80 } else { child.flags };
            let record = record(&child.name, flags, *block, *bytes, &child.system_use);
            if all.len() % SECTOR + record.len() > SECTOR {
                all.resize(all.len().next_multiple_of(SECTOR), 0);
            }
            all.extend(record);
        }
    }
    all.resize(all.len().next_multiple_of(SECTOR), 0);
    all
}
