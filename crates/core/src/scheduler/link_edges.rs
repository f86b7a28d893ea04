//! What stands behind links: whoever reads a link reads what it leads to, and comes behind the step that
//! makes that.

use crate::project::PathId;
use crate::project::StepId;
use crate::scheduler::pass::Pass;
use crate::world::Disk;

/// Links that lead from one to the next further than this lead nowhere (Linux gives up after as many).
const MOST: usize = 40;

/// Notes the steps whose outputs a step reads through links, as far as it does not wait for them; the links.
pub fn find_edges(pass: &mut Pass<'_, '_, '_>, step: StepId) -> Vec<PathId> {
    let project = pass.project;
    let needs: Vec<PathId> = project
        .open_needs(project.step_needs(project.step(step)))
        .map(|(_, path)| path)
        .filter(|path| pass.states.linked.contains(path))
        .collect();
    let mut by_luck = Vec::new();
    for path in needs {
        for end in ends(pass.session.disk, project.paths.get(path)) {
            let maker = project.maker_of(&end).filter(|maker| *maker != step);
            if let Some(maker) = maker
                && !pass.waits_for(step, maker)
            {
                let names = (
                    project.step_name(step).to_owned(),
                    project.step_name(maker).to_owned(),
                );
                pass.session.found_edges.insert(names);
                by_luck.push(path);
            }
        }
    }
    by_luck
}

/// The paths below the root that a link leads through, each as it is written and as a whole folder.
fn ends(disk: &dyn Disk, link: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut at = link.trim_end_matches('/').to_owned();
    for _ in 0..MOST {
        let Ok(text) = disk.read_link(&at) else { break };
        let folder = &at[..at.rfind('/').map_or(0, |end| end + 1)];
        let Some(next) = below_root(folder, &text) else {
            break;
        };
        found.push(format!("{next}/"));
        found.push(next.clone());
        at = next;
    }
    found
}

/// A relative path as seen from a folder, without `.` and `..`; none outside of the project.
fn below_root(folder: &str, text: &str) -> Option<String> {
    if text.starts_with('/') {
        return None;
    }
    let mut parts: Vec<&str> = Vec::new();
    for part in folder.split('/').chain(text.split('/')) {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop()?;
            }
            part => parts.push(part),
        }
    }
    (!parts.is_empty()).then(|| parts.join("/"))
}

#[cfg(test)]
mod tests {
    use super::below_root;

    #[test]
    fn paths_are_put_together() {
        assert_eq!(below_root("a/b/", "../c").as_deref(), Some("a/c"));
        assert_eq!(below_root("", "x/./y//z").as_deref(), Some("x/y/z"));
        assert_eq!(below_root("a/", "../../x"), None);
        assert_eq!(below_root("a/", "/etc"), None);
        assert_eq!(below_root("a/", ".."), None);
    }
}
