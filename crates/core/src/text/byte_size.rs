//! Sizes as people write them.

/// A size such as `512K`, `100M`, `10G` or `1T`, or a plain number of bytes; `None` for anything else.
#[must_use]
pub fn byte_size(text: &str) -> Option<u64> {
    let digits = text
        .find(|c: char| !c.is_ascii_digit() && c != '.')
        .unwrap_or(text.len());
    let (number, unit) = text.split_at(digits);
    let shift = match unit {
        "" => 0,
        "K" => 10,
        "M" => 20,
        "G" => 30,
        "T" => 40,
        _ => return None,
    };
    let (whole, part) = number.split_once('.').unwrap_or((number, "0"));
    let whole: u64 = whole.parse().ok()?;
    // Tenths and the like: as exact as anybody writes them.
    let scale = 10u64.checked_pow(u32::try_from(part.len()).ok()?)?;
    let part: u64 = part.parse().ok()?;
    let unit = 1u64 << shift;
    let below_one = u128::from(part) * u128::from(unit) / u128::from(scale);
    whole
        .checked_mul(unit)?
        .checked_add(u64::try_from(below_one).ok()?)
}

#[cfg(test)]
mod tests {
    use super::byte_size;

    #[test]
    fn sizes() {
        assert_eq!(byte_size("0"), Some(0));
        assert_eq!(byte_size("1500"), Some(1500));
        assert_eq!(byte_size("10G"), Some(10 << 30));
        assert_eq!(byte_size("1.5K"), Some(1536));
        for wrong in [
            "",
            "G",
            "1g",
            "1GB",
            "-1",
            "1.",
            ".5G",
            "99999999999T",
            "1.5.5",
            "é",
        ] {
            assert_eq!(byte_size(wrong), None, "{wrong}");
        }
    }
}
