//! Writes the seeds for the fuzzer. See `fuzz/run`.

use std::{fs, path::Path};

fn main() {
    for (entry, name, data) in choir_fuzz::seeds::seeds() {
        let folder = Path::new("corpus").join(entry);
        fs::create_dir_all(&folder).and_then(|()| fs::write(folder.join(name), data)).expect("written");
    }
}
