//! Arguments of `choir rota`.

use clap::{Args as ClapArgs, Subcommand};
use std::path::PathBuf;

#[derive(Debug, ClapArgs)]
#[command(
    subcommand_negates_reqs = true,
    args_conflicts_with_subcommands = true,
    after_help = "Examples:
  choir rota                        all of them, and what is left of each
  choir rota start intervals        from its first step, or where it was paused
  choir rota skip intervals

A take on its feed pauses a rota; start it again to go on. Rotas are written in the sheet, [[rota]]."
)]
pub struct RotaArgs {
    #[command(subcommand)]
    pub action: Option<RotaAction>,
    /// The sheet of the show [default: the only one that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
    /// Print as JSON.
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, ClapArgs)]
pub struct OneRota {
    /// The rota.
    pub name: String,
    /// The sheet of the show [default: the only one that runs].
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<PathBuf>,
}

#[derive(Debug, Subcommand)]
pub enum RotaAction {
    /// Start it, or go on where it was paused.
    Start(OneRota),
    /// Let it wait; what is on stays on.
    Pause(OneRota),
    /// Go to its next step.
    Skip(OneRota),
    /// End it; what is on stays on.
    Stop(OneRota),
}
