//! Amounts of bytes and lists of names, as people write and read them.

const UNITS: [(&str, u64); 7] = [
    ("GiB", 1 << 30),
    ("MiB", 1 << 20),
    ("KiB", 1 << 10),
    ("GB", 1_000_000_000),
    ("MB", 1_000_000),
    ("kB", 1000),
    ("B", 1),
];

/// So many bytes, in a unit that reads well.
#[must_use]
pub fn size(bytes: u64) -> String {
    #[expect(clippy::cast_precision_loss, reason = "for reading")]
    let number = bytes as f64;
    match bytes {
        1 => "1 byte".to_owned(),
        0..=9_999 => format!("{bytes} bytes"),
        10_000..=999_999 => format!("{:.0} kB", number / 1e3),
        1_000_000..=9_999_999 => format!("{:.1} MB", number / 1e6),
        10_000_000..=9_999_999_999 => format!("{:.0} MB", number / 1e6),
        _ => format!("{:.0} GB", number / 1e9),
    }
}

/// Names as a list, of very many the first few and how many more there are.
#[must_use]
pub fn few(names: &[&str]) -> String {
    const SHOWN: usize = 5;
    match names.len() {
        0..=SHOWN => names.join(", "),
        count => format!("{} and {} more", names[..SHOWN - 1].join(", "), count + 1 - SHOWN),
    }
}

/// Reads a whole number of bytes with its unit, such as `20MiB` or `10 GB`; none if it is none, or nothing.
#[must_use]
pub fn read_size(text: &str) -> Option<u64> {
    let text = text.trim();
    let (unit, size) = UNITS.iter().find(|(unit, _)| text.ends_with(unit))?;
    let digits = text.strip_suffix(unit)?.trim().replace('_', "");
    digits.parse::<u64>().ok().filter(|number| *number > 0)?.checked_mul(*size)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn amounts_are_read_and_written_with_their_unit() {
        assert_eq!(read_size("20MiB"), Some(20 << 20));
        assert_eq!(read_size(" 10 GB "), Some(10_000_000_000));
        assert_eq!(read_size("1_000 kB"), Some(1_000_000));
        for none in ["", "5", "0 B", "GB", "-1 GB", "99999999999 GB"] {
            assert_eq!(read_size(none), None, "{none}");
        }
        assert_eq!(few(&["a", "b"]), "a, b");
        assert_eq!(few(&["a", "b", "c", "d", "e"]), "a, b, c, d, e");
        assert_eq!(few(&["a", "b", "c", "d", "e", "f"]), "a, b, c, d and 2 more");
        assert_eq!(size(1), "1 byte");
        assert_eq!(size(9_999), "9999 bytes");
        assert_eq!(size(7_991_000), "8.0 MB");
        assert_eq!(size(74_400_000), "74 MB");
        assert_eq!(size(20_000_000_000), "20 GB");
    }
}
