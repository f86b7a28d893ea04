//! White space made visible, for messages about indentation.

/// Spaces as `·`, tabs as `→`, any other white space by its code point.
#[must_use]
pub fn visible_white_space(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            ' ' => out.push('·'),
            '\t' => out.push('→'),
            c if c.is_whitespace() || c.is_control() => {
                out.push_str(&format!("<U+{:04X}>", u32::from(c)));
            }
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::visible_white_space;

    #[test]
    fn tabs_and_spaces_can_be_told_apart() {
        assert_eq!(visible_white_space(" \t\u{a0}"), "·→<U+00A0>");
    }
}
