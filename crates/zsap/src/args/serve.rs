//! `zsap serve`: its arguments.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::Args as ArgGroup;
use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use zestful_sapling::family::Override;

use super::attach::Attaching;
use super::disk::DiskOption;
use super::overrides::{name_of_override, overrides};

/// What is typed after `zsap serve`.
///
/// The disk is there for hypervisors and clients of the network block device protocol until an interrupt or a polite
/// kill ends it: then what was begun is done, replied to and made durable.
#[derive(Debug, ArgGroup)]
pub(crate) struct Serve {
    /// The image, with all that it reads through; or a folder, all images of which are served for reading; or the
    /// folder of a machine, each disk of which is served under its label, and as LABEL@NAME as it was at a checkpoint
    pub(crate) path: PathBuf,
    #[command(flatten)]
    pub(crate) machine: DiskOption,
    /// All disks of the machine in that folder: writable ones together, so that a checkpoint can be taken of all
    #[arg(long, conflicts_with_all = ["disk", "checkpoint"])]
    pub(crate) all_disks: bool,
    /// The Unix socket to make, for this user alone [default: one beside others of its kind, which is told]
    #[arg(long, value_name = "SOCKET", conflicts_with = "listen")]
    pub(crate) socket: Option<PathBuf>,
    /// Who may open that socket instead, such as the user that a hypervisor runs as
    #[arg(long, value_name = "USER[:GROUP]", value_parser = owner, conflicts_with = "listen", requires = "socket")]
    pub(crate) socket_owner: Option<(u32, Option<u32>)>,
    /// Listen at an address of the network instead, such as 127.0.0.1:10809
    #[arg(long, value_name = "ADDRESS:PORT")]
    pub(crate) listen: Option<SocketAddr>,
    /// The server's certificate (PEM, with those that signed it): clients come in under TLS only
    #[arg(long, value_name = "FILE", requires = "tls_key")]
    pub(crate) tls_certificate: Option<PathBuf>,
    /// The key of that certificate (PEM)
    #[arg(long, value_name = "FILE", requires = "tls_certificate")]
    pub(crate) tls_key: Option<PathBuf>,
    /// Only clients with a certificate that one in this file signed (PEM)
    #[arg(long, value_name = "FILE", requires = "tls_certificate")]
    pub(crate) tls_clients: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) attaching: Attaching,
    /// Do it all the same, where it was refused for this
    #[arg(long, value_name = "WHAT", require_equals = true, value_delimiter = ',', value_parser = forced())]
    pub(crate) force: Vec<Forced>,
}

/// What may be forced here.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Forced {
    /// What the library knows of.
    Library(Override),
    /// Others on the way read, and may change, what goes to and fro.
    PlainNetwork,
}

const OVERRIDES: &[&str] = &["ending", "unknown-children", "in-use", "hard-links", "saved-state"];
const PLAIN_NETWORK: &str = "plain-network";

fn forced() -> impl TypedValueParser<Value = Forced> {
    let library = overrides(OVERRIDES);
    let plain = PossibleValue::new(PLAIN_NETWORK).help("A network on which others read, and may change, what is sent");
    let values: Vec<PossibleValue> = library.possible_values().into_iter().flatten().chain([plain]).collect();
    PossibleValuesParser::new(values).try_map(|chosen| {
        let known =
            [Override::Ending, Override::UnknownChildren, Override::InUse, Override::HardLinks, Override::SavedState];
        let found = known.into_iter().find(|allowed| name_of_override(*allowed) == Some(&chosen));
        match found {
            Some(allowed) => Ok(Forced::Library(allowed)),
            None if chosen == PLAIN_NETWORK => Ok(Forced::PlainNetwork),
            None => Err("nothing of that name can be forced"),
        }
    })
}

/// A user, and a group, by name or by number.
fn owner(typed: &str) -> Result<(u32, Option<u32>), String> {
    let (user, group) = typed.split_once(':').map_or((typed, None), |(user, group)| (user, Some(group)));
    let user = match user.parse() {
        Ok(number) => number,
        Err(_) => uzers::get_user_by_name(user).ok_or(format!("there is no user {user} on this host"))?.uid(),
    };
    let group = match group {
        None => None,
        Some(group) => Some(match group.parse() {
            Ok(number) => number,
            Err(_) => uzers::get_group_by_name(group).ok_or(format!("there is no group {group} on this host"))?.gid(),
        }),
    };
    Ok((user, group))
}
