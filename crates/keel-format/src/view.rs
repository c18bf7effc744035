//! The one type through which drive bytes are looked at: bounds-checked, never panicking.

use keel_source::ByteOffset;
use zerocopy::{FromBytes, Immutable, KnownLayout, Unaligned};

use crate::{FormatError, Problem};

/// A stretch of bytes read from a drive, with its position and the name of the structure it should hold.
#[derive(Debug, Clone, Copy)]
pub struct View<'a> {
    bytes: &'a [u8],
    at: ByteOffset,
    structure: &'static str,
}

impl<'a> View<'a> {
    /// `bytes`, read at byte `at`, as a `structure`.
    #[must_use]
    pub fn new(structure: &'static str, at: ByteOffset, bytes: &'a [u8]) -> Self {
        Self { bytes, at, structure }
    }

    /// All the bytes.
    #[must_use]
    pub fn bytes(&self) -> &'a [u8] {
        self.bytes
    }

    /// Position of byte 0.
    #[must_use]
    pub fn position(&self) -> ByteOffset {
        self.at
    }

    /// An error of this structure.
    #[must_use]
    pub fn error(&self, offset: usize, problem: Problem) -> FormatError {
        FormatError::new(self.structure, self.at + offset as u64, problem)
    }

    /// A field with a value that cannot be.
    #[must_use]
    pub fn wrong(&self, offset: usize, field: &'static str, found: u64, expected: &'static str) -> FormatError {
        self.error(offset, Problem::Value { field, found, expected })
    }

    /// `len` bytes at `offset`.
    ///
    /// # Errors
    /// [`Problem::Truncated`] naming `field`.
    pub fn slice(&self, offset: usize, len: usize, field: &'static str) -> Result<&'a [u8], FormatError> {
        offset.checked_add(len).and_then(|end| self.bytes.get(offset..end)).ok_or_else(|| {
            let available = self.bytes.len().saturating_sub(offset);
            self.error(offset, Problem::Truncated { field, offset, wanted: len, available })
        })
    }

    /// The raw structure `T` at `offset`.
    ///
    /// # Errors
    /// [`Problem::Truncated`] naming `field`.
    pub fn at<T>(&self, offset: usize, field: &'static str) -> Result<&'a T, FormatError>
    where
        T: FromBytes + KnownLayout + Immutable + Unaligned,
    {
        let bytes = self.slice(offset, size_of::<T>(), field)?;
        T::ref_from_bytes(bytes)
            .map_err(|_| self.error(offset, Problem::Truncated { field, offset, wanted: size_of::<T>(), available: bytes.len() }))
    }

    /// A part of this view as a structure of its own.
    ///
    /// # Errors
    /// [`Problem::Truncated`] naming `structure`.
    pub fn part(&self, offset: usize, len: usize, structure: &'static str) -> Result<View<'a>, FormatError> {
        Ok(View { bytes: self.slice(offset, len, structure)?, at: self.at + offset as u64, structure })
    }

    /// The byte at `offset`.
    ///
    /// # Errors
    /// [`Problem::Truncated`] naming `field`.
    pub fn u8(&self, offset: usize, field: &'static str) -> Result<u8, FormatError> {
        self.array::<1>(offset, field).map(|[byte]| byte)
    }

    /// The little-endian 16-bit number at `offset`.
    ///
    /// # Errors
    /// [`Problem::Truncated`] naming `field`.
    pub fn u16(&self, offset: usize, field: &'static str) -> Result<u16, FormatError> {
        self.array(offset, field).map(u16::from_le_bytes)
    }

    /// The little-endian 32-bit number at `offset`.
    ///
    /// # Errors
    /// [`Problem::Truncated`] naming `field`.
    pub fn u32(&self, offset: usize, field: &'static str) -> Result<u32, FormatError> {
        self.array(offset, field).map(u32::from_le_bytes)
    }

    /// The little-endian 64-bit number at `offset`.
    ///
    /// # Errors
    /// [`Problem::Truncated`] naming `field`.
    pub fn u64(&self, offset: usize, field: &'static str) -> Result<u64, FormatError> {
        self.array(offset, field).map(u64::from_le_bytes)
    }

    /// The big-endian 16-bit number at `offset`.
    ///
    /// # Errors
    /// [`Problem::Truncated`] naming `field`.
    pub fn u16_be(&self, offset: usize, field: &'static str) -> Result<u16, FormatError> {
        self.array(offset, field).map(u16::from_be_bytes)
    }

    /// The big-endian 32-bit number at `offset`.
    ///
    /// # Errors
    /// [`Problem::Truncated`] naming `field`.
    pub fn u32_be(&self, offset: usize, field: &'static str) -> Result<u32, FormatError> {
        self.array(offset, field).map(u32::from_be_bytes)
    }

    /// The big-endian 64-bit number at `offset`.
    ///
    /// # Errors
    /// [`Problem::Truncated`] naming `field`.
    pub fn u64_be(&self, offset: usize, field: &'static str) -> Result<u64, FormatError> {
        self.array(offset, field).map(u64::from_be_bytes)
    }

    fn array<const N: usize>(&self, offset: usize, field: &'static str) -> Result<[u8; N], FormatError> {
        let mut out = [0; N];
        out.copy_from_slice(self.slice(offset, N, field)?);
        Ok(out)
    }
}
