//! What is done with this workspace: `cargo xtask test` runs all tests side by side, `cargo xtask
//! sabotage` checks that they catch mistakes.

mod sabotage;
mod tests;

use std::process::ExitCode;

const HELP: &str = "\
cargo xtask test [--not-judged-max N] [FILTER]
    Runs every test program: those without timing side by side, then those of timing one after the other. The last line says
    how many assertions of timing could not be judged since the machine itself stood still; more than N of them fail the run.
cargo xtask sabotage [NAME]
    Breaks the sources in small ways, one at a time, in a copy, and says which mistakes the tests catch.
";

fn main() -> ExitCode {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let words: Vec<&str> = args.iter().map(String::as_str).collect();
    let done = match words.as_slice() {
        ["test", rest @ ..] => tests::run(rest),
        ["sabotage", rest @ ..] => sabotage::run(rest),
        _ => Err(HELP.into()),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(text) => {
            eprintln!("{text}");
            ExitCode::FAILURE
        }
    }
}
