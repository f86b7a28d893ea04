//! The modules that a Python script imports.

use std::collections::BTreeSet;

use super::script_tokens::ScriptToken;

/// Modules, with their dots; behind `from a import b` also `a.b`, which may be something in the module `a`.
pub fn imported(tokens: &[ScriptToken]) -> BTreeSet<String> {
    let mut all = BTreeSet::new();
    for line in tokens.split(|token| *token == ScriptToken::Line) {
        match line.first() {
            Some(ScriptToken::Name(first)) if first == "import" => {
                let mut is_alias = false;
                for token in &line[1..] {
                    match token {
                        ScriptToken::Name(name) if name == "as" => is_alias = true,
                        ScriptToken::Name(_) if is_alias => is_alias = false,
                        ScriptToken::Name(name) => {
                            all.insert(name.clone());
                        }
                        _ => {}
                    }
                }
            }
            Some(ScriptToken::Name(first)) if first == "from" => from_package(&line[1..], &mut all),
            _ => {}
        }
    }
    all
}

/// What stands behind `from`.
fn from_package(line: &[ScriptToken], all: &mut BTreeSet<String>) {
    let dots = line
        .iter()
        .take_while(|token| **token == ScriptToken::Mark('.'));
    let mut package = ".".repeat(dots.count());
    let mut rest = line[package.len()..].iter();
    for token in rest.by_ref() {
        match token {
            ScriptToken::Name(name) if name == "import" => break,
            ScriptToken::Name(name) => {
                package.push_str(name);
                all.insert(package.clone());
                package.push('.');
            }
            _ => return,
        }
    }
    let mut is_alias = false;
    for token in rest {
        match token {
            ScriptToken::Name(name) if name == "as" => is_alias = true,
            ScriptToken::Name(_) if is_alias => is_alias = false,
            ScriptToken::Name(name) => {
                all.insert(format!("{package}{name}"));
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::script_tokens::Dialect;
    use super::super::script_tokens::tokens;
    use super::*;

    #[test]
    fn imports_are_seen() {
        let text = "import os, lamp.draw as d\nfrom . import near\nfrom .far import x\nfrom tide import (\n  y as z,\n  w\n)\nx = 'import no'\n";
        let found = imported(&tokens(text, Dialect::Python));
        let modules: Vec<&str> = found.iter().map(String::as_str).collect();
        assert_eq!(
            modules,
            [
                ".far",
                ".far.x",
                ".near",
                "lamp.draw",
                "os",
                "tide",
                "tide.w",
                "tide.y"
            ]
        );
    }
}
