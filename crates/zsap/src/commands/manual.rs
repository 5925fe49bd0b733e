//! `zsap manual`: the manual's pages.

use std::fs;
use std::path::Path;

use zestful_sapling::ops::Plan;

use super::io;
use crate::args::help;
use crate::args::manual::Manual;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::learning::Pages;
use crate::report::text;

pub(super) fn run(console: &Console, typed: &Manual) -> Result<Outcome, Failure> {
    let folder = &typed.folder;
    let pages = pages().map_err(Failure::Output)?;
    let mut plan = Plan::default();
    plan.operation = "manual";
    plan.steps.push(format!("write {} into {}", text::count(pages.len(), "page", "pages"), folder.display()));
    plan.files.create = pages.iter().map(|(name, _)| folder.join(name)).filter(|path| !path.exists()).collect();
    plan.files.change = pages.iter().map(|(name, _)| folder.join(name)).filter(|path| path.exists()).collect();
    plan.bytes_written = pages.iter().map(|(_, page)| page.len() as u64).sum();
    plan.peak_extra_space = plan.bytes_written;
    if console.show_plan(&plan)? {
        return Ok(Outcome::Done);
    }
    fs::create_dir_all(folder).map_err(|error| io("create the folder", folder, error))?;
    for (name, page) in &pages {
        replace(&folder.join(name), page)?;
    }
    let told = Pages { folder: folder.as_path().into(), pages: pages.into_iter().map(|(name, _)| name).collect() };
    let lines = [
        format!("wrote {} into {}", text::count(told.pages.len(), "page", "pages"), text::path(folder)),
        format!("  read one: man {}/zsap.1", shlex::try_quote(&text::path(folder)).unwrap_or_default()),
    ];
    console.answer(&told, lines)?;
    Ok(Outcome::Done)
}

/// A page appears whole, or the old one stays.
fn replace(path: &Path, page: &[u8]) -> Result<(), Failure> {
    let written = tempfile::NamedTempFile::new_in(path.parent().unwrap_or(Path::new(".")))
        .and_then(|file| fs::write(file.path(), page).map(|()| file))
        .and_then(|file| readable(file.path()).map(|()| file))
        .and_then(|file| file.persist(path).map_err(|error| error.error));
    written.map(drop).map_err(|error| io("write", path, error).into())
}

/// Pages are for everybody; a new temporary file is for its owner.
fn readable(path: &Path) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(path, fs::Permissions::from_mode(0o644))
}

/// Each page with the name of its file, in order.
fn pages() -> std::io::Result<Vec<(String, Vec<u8>)>> {
    let mut command = help::command().disable_help_subcommand(true);
    command.build();
    let (mut pages, mut waiting) = (Vec::new(), vec![command]);
    while let Some(command) = waiting.pop() {
        waiting.extend(command.get_subcommands().filter(|sub| !sub.is_hide_set()).cloned());
        let (mut page, man) = (Vec::new(), clap_mangen::Man::new(command));
        man.render(&mut page)?;
        pages.push((man.get_filename(), page));
    }
    pages.sort();
    Ok(pages)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Each command has a page of its own, with its examples.
    #[test]
    fn each_command_has_a_page() {
        let pages = pages().unwrap();
        let text = |name: &str| {
            let (_, page) = pages.iter().find(|(found, _)| found == name).unwrap();
            String::from_utf8(page.clone()).unwrap()
        };
        assert!(text("zsap.1").contains("zsap\\-merge(1)"), "{}", text("zsap.1"));
        assert!(text("zsap-files-list.1").contains("Examples"), "{}", text("zsap-files-list.1"));
        assert!(pages.iter().all(|(_, page)| !page.contains(&0x1b)));
        assert!(text("zsap-merge.1").contains("\\-\\-into"), "{}", text("zsap-merge.1"));
    }
}
