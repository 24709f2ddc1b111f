//! `choir budget`: what crosses each network.

use super::{load, which_sheet};
use crate::{
    args::BudgetArgs,
    exit::{DIFFERS, Failure},
    output,
};
use choir_core::budget::budget;

pub fn run(args: &BudgetArgs) -> Result<(), Failure> {
    let sheet = load(&which_sheet(args.sheet.as_deref())?, false)?;
    let found = budget(&sheet);
    if args.json {
        println!("{}", serde_json::to_string_pretty(&found).unwrap_or_default());
    } else if found.networks.is_empty() && found.encodings.is_empty() {
        println!("The sheet names no network. Add [[network]] with name, kind, range and capacity.");
    } else {
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        print!("{}", output::budget::text(&found, output::tables::width(), cores));
    }
    if found.networks.iter().any(|n| n.over().count() > 0) { Err(Failure::told(DIFFERS)) } else { Ok(()) }
}
