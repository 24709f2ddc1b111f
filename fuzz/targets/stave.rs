//! See `fuzz/run`.

#![no_main]

use choir_fuzz::*;
use libfuzzer_sys::fuzz_target;
use choir_proto::stave::fuzz;

fuzz_target!(|data: &[u8]| {
    let now = start();
    fuzz::control(now, &pieces(data));
    // Also behind a greeting that is right.
    let greeting = stave::greeting();
    let with = std::iter::once(greeting.as_slice()).chain(pieces(data)).collect::<Vec<_>>();
    fuzz::control(now, &with);
    fuzz::unit(data);
    fuzz::packet(now, data);
    stave::sealed(data);
});
