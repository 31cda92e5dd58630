//! Numbers off the front of an event, little endian unless said otherwise.

/// The bytes end where more were promised, or hold what they cannot.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct BadEvent;

pub(super) type BytesResult<T> = Result<T, BadEvent>;

/// Takes numbers off the front of bytes.
#[derive(Debug, Clone, Copy)]
pub(super) struct EventBytes<'a>(pub(super) &'a [u8]);

impl<'a> EventBytes<'a> {
    pub(super) fn take(&mut self, count: usize) -> BytesResult<&'a [u8]> {
        let (front, rest) = self.0.split_at_checked(count).ok_or(BadEvent)?;
        self.0 = rest;
        Ok(front)
    }

    pub(super) fn u8(&mut self) -> BytesResult<u8> {
        Ok(self.take(1)?[0])
    }

    /// A number of so many bytes.
    pub(super) fn little(&mut self, count: usize) -> BytesResult<u64> {
        let bytes = self.take(count)?;
        Ok(bytes.iter().rev().fold(0, |number, byte| number << 8 | u64::from(*byte)))
    }

    /// A number of so many bytes, the greatest first.
    pub(super) fn big(&mut self, count: usize) -> BytesResult<u64> {
        let bytes = self.take(count)?;
        Ok(bytes.iter().fold(0, |number, byte| number << 8 | u64::from(*byte)))
    }

    /// A length in one to nine bytes.
    pub(super) fn length(&mut self) -> BytesResult<usize> {
        let length = match self.u8()? {
            0xfc => self.little(2)?,
            0xfd => self.little(3)?,
            0xfe => self.little(8)?,
            0xff | 0xfb => return Err(BadEvent),
            short => short.into(),
        };
        usize::try_from(length).map_err(|_| BadEvent)
    }

    /// A length of so many bytes, and so many bytes.
    pub(super) fn counted(&mut self, length_bytes: usize) -> BytesResult<&'a [u8]> {
        let length = usize::try_from(self.little(length_bytes)?).map_err(|_| BadEvent)?;
        self.take(length)
    }

    /// A length in one to nine bytes, and text of that length.
    pub(super) fn text(&mut self) -> BytesResult<String> {
        let length = self.length()?;
        Ok(String::from_utf8_lossy(self.take(length)?).into_owned())
    }
}

/// Whether bit number `at` is set, the lowest bit of the first byte being the first.
pub(super) fn bit(bytes: &[u8], at: usize) -> bool {
    bytes.get(at / 8).is_some_and(|byte| byte & (1 << (at % 8)) != 0)
}
