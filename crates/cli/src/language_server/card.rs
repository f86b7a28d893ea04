//! What a keyword is for: the card of docs/language.md, read where it stands.

const LANGUAGE: &str = include_str!("../../../../docs/language.md");

/// The forms of a keyword and what they are for, a line each as Markdown; none of what is no keyword there.
pub fn forms(keyword: &str, is_clause: bool) -> Option<String> {
    let title = match is_clause {
        true => "| indented below",
        false => "| at the left edge",
    };
    let rows = LANGUAGE
        .lines()
        .skip_while(|line| !line.starts_with(title))
        .take_while(|line| line.starts_with('|'));
    let mut lines = Vec::new();
    for row in rows {
        let mut cells = row.trim_matches('|').splitn(2, " | ");
        let (Some(written), Some(meaning)) = (cells.next(), cells.next()) else {
            continue;
        };
        let forms: Vec<&str> = written
            .split('·')
            .map(str::trim)
            .filter(|form| word_of(form) == keyword)
            .collect();
        if !forms.is_empty() {
            let meaning = meaning.trim();
            let between = if meaning.is_empty() { "" } else { ": " };
            lines.push(format!("{}{between}{meaning}", forms.join(" · ")));
        }
    }
    (!lines.is_empty()).then(|| lines.join("\n\n"))
}

/// The word that a form begins with.
fn word_of(form: &str) -> &str {
    let form = form.trim_start_matches('`');
    let end = form.find(|character: char| !character.is_alphabetic());
    &form[..end.unwrap_or(form.len())]
}

#[cfg(test)]
mod tests {
    use super::forms;
    use handloom_core::language::CLAUSES;
    use handloom_core::language::TOP;

    #[test]
    fn every_keyword_is_on_the_card() {
        for keyword in TOP {
            assert!(forms(keyword, false).is_some(), "{keyword}");
        }
        for keyword in CLAUSES {
            assert!(forms(keyword, true).is_some(), "{keyword}");
        }
        assert_eq!(forms("nothing", true), None);
        assert_eq!(
            forms("after", true).as_deref(),
            Some("`after NAMES`: first, but no reason to make this again")
        );
    }
}
