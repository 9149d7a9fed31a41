//! A cursor over bytes that were read, and the one error for bytes that break the format's rules.

/// Authentic bytes that break a rule of the format; says which part.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("malformed {0}")]
pub struct Malformed(pub &'static str);

/// Takes little-endian values off the front of a byte slice.
#[derive(Debug, Clone)]
pub struct Cursor<'a> {
    rest: &'a [u8],
    what: &'static str,
}

impl<'a> Cursor<'a> {
    /// A cursor over `bytes`, which should hold a `what`.
    pub fn new(bytes: &'a [u8], what: &'static str) -> Self {
        Self { rest: bytes, what }
    }

    /// The error for what is being read.
    pub fn malformed(&self) -> Malformed {
        Malformed(self.what)
    }

    /// The next `count` bytes.
    pub fn bytes(&mut self, count: usize) -> Result<&'a [u8], Malformed> {
        let (taken, rest) = self.rest.split_at_checked(count).ok_or(self.malformed())?;
        self.rest = rest;
        Ok(taken)
    }

    /// The next `N` bytes as an array.
    pub fn array<const N: usize>(&mut self) -> Result<[u8; N], Malformed> {
        let mut array = [0; N];
        array.copy_from_slice(self.bytes(N)?);
        Ok(array)
    }

    /// The next byte.
    ///
    /// # Errors
    /// [`Malformed`] at the end.
    pub fn u8(&mut self) -> Result<u8, Malformed> {
        self.array::<1>().map(|[byte]| byte)
    }

    /// The next two bytes.
    pub fn u16(&mut self) -> Result<u16, Malformed> {
        self.array().map(u16::from_le_bytes)
    }

    /// The next four bytes.
    pub fn u32(&mut self) -> Result<u32, Malformed> {
        self.array().map(u32::from_le_bytes)
    }

    /// The next eight bytes.
    pub fn u64(&mut self) -> Result<u64, Malformed> {
        self.array().map(u64::from_le_bytes)
    }

    /// The next eight bytes, signed.
    pub fn i64(&mut self) -> Result<i64, Malformed> {
        self.array().map(i64::from_le_bytes)
    }

    /// Passes over bytes that must be zero.
    ///
    /// # Errors
    /// [`Malformed`] where one is not, or there are fewer.
    pub fn zeros(&mut self, count: usize) -> Result<(), Malformed> {
        let zeros = self.bytes(count)?.iter().all(|byte| *byte == 0);
        if zeros { Ok(()) } else { Err(self.malformed()) }
    }

    /// Whether everything was taken.
    pub fn is_empty(&self) -> bool {
        self.rest.is_empty()
    }

    /// Everything that is left.
    pub fn rest(self) -> &'a [u8] {
        self.rest
    }

    /// Says that nothing may be left.
    ///
    /// # Errors
    /// [`Malformed`] where something is.
    pub fn end(self) -> Result<(), Malformed> {
        if self.rest.is_empty() { Ok(()) } else { Err(self.malformed()) }
    }
}
