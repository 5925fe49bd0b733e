//! One file a command: arguments in, a library call, its answer in words.

mod bytes;
mod check;
mod copy;
mod demo;
mod derive;
mod diff;
mod identity;
mod kin;
mod make;
mod merge;
mod pin;
mod show;
mod status;
mod tree;

use zestful_sapling::Error;
use zestful_sapling::error::Refusal;
use zestful_sapling::family::{PlaceReport, Report};
use zestful_sapling::ops::Identity;

use crate::args::{Args, Command, Depth};
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::watch;

pub(crate) fn run(args: &Args, console: &Console) -> Result<Outcome, Failure> {
    match &args.command {
        Command::Make { path, size, filled_from, image } => {
            make::run(console, path, *size, filled_from.as_deref(), image)
        }
        Command::Derive { base, child, absolute, block_size, force } => {
            derive::run(console, base, child, *absolute, *block_size, force)
        }
        Command::Show { path, format } => show::run(console, path, format),
        Command::Tree { path } => tree::run(console, path),
        Command::Copy { source, target, image, identity, depth, verify } => {
            let request = copy::Request {
                source,
                target,
                options: image,
                identity: identity.map_or(Identity::Fresh, Into::into),
                depth: depth.unwrap_or(Depth::Disk),
                verify: *verify,
            };
            copy::run(console, &request)
        }
        Command::Relink { child, parent, search, force } => {
            kin::relink(console, child, parent.as_deref(), search.search(), force)
        }
        Command::Merge { child, into, keep_name, search, force } => merge::merge(
            console,
            merge::MergeRequest {
                child,
                into: into.as_deref(),
                keep: keep_name.map(Into::into),
                search: search.search(),
                overrides: force.overrides(),
            },
        ),
        Command::Transplant { child, base, force } => merge::transplant(console, child, base, force.clone()),
        Command::Status { folder } => status::run(console, folder),
        Command::Resume { path, search, force } => merge::carry_on(console, path, search.search(), force.overrides()),
        Command::Abandon { path, search, force } => merge::give_up(console, path, search.search(), force.overrides()),
        Command::Pin { base, verify: true, search, .. } => pin::verify(console, base, &search.search()),
        Command::Pin { base, verify: false, force, .. } => pin::pin(console, base, force),
        Command::Unpin { base, search } => pin::take_away(console, base, &search.search()),
        Command::Unfreeze { image, search, force } => kin::unfreeze(console, image, search.search(), force),
        Command::Diff { one, other, contents } => diff::run(console, one, other, *contents),
        Command::Children { image, search } => kin::children(console, image, &search.search()),
        Command::Move { source, target, search, force } => {
            kin::move_image(console, source, target, search.search(), force.overrides())
        }
        Command::Remove { path, search, force } => kin::remove(console, path, search.search(), force),
        Command::Identity { path, fresh: _, options } => identity::run(console, path, options),
        Command::Check { path, format } => check::run(console, path, format),
        Command::Bytes(command) => bytes::run(console, command),
        Command::Demo { folder } => demo::run(console, folder.as_deref()),
    }
}

/// Plans something that a device's content may be in the way of: asks, or takes `--yes` for the answer.
fn asking<T>(console: &Console, plan: impl Fn(bool) -> Result<T, Error>) -> Result<T, Error> {
    let yes = console.common().yes;
    match watch::patiently(console, || plan(yes)) {
        Err(Error::Refused(Refusal::HasContent { .. }, advice)) if console.confirms(&advice.message) => {
            watch::patiently(console, || plan(true))
        }
        other => other,
    }
}

/// What a new image takes of its host.
fn space_taken(console: &Console, report: &Report) -> String {
    match report.place {
        PlaceReport::Device => format!("  takes the whole device of {}", console.size(report.file_size)),
        _ => format!(
            "  takes {} of the host so far; {} are free",
            console.size(report.allocated_size),
            console.size(report.host_free)
        ),
    }
}
