//! What `zsap completions` is given.

use clap::{Args, ValueEnum};

#[derive(Clone, Debug, Args)]
pub(crate) struct Completions {
    /// The shell
    #[arg(value_enum)]
    pub(crate) shell: ShellName,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum ShellName {
    Bash,
    Zsh,
    Fish,
    Elvish,
}

impl From<ShellName> for clap_complete::Shell {
    fn from(name: ShellName) -> Self {
        match name {
            ShellName::Bash => clap_complete::Shell::Bash,
            ShellName::Zsh => clap_complete::Shell::Zsh,
            ShellName::Fish => clap_complete::Shell::Fish,
            ShellName::Elvish => clap_complete::Shell::Elvish,
        }
    }
}
