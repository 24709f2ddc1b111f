//! Writes the scene's pictures as Y4M to standard output, for a bare encoder: see
//! `assets/make-loop.sh`.
//!
//! `loop_pictures NAME WIDTHxHEIGHT RATE FRAMES`

use choir_sim::camera::Scene;
use std::io::{BufWriter, Write, stdout};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [name, size, rate, frames] = &args[..] else { return Err("NAME WIDTHxHEIGHT RATE FRAMES".into()) };
    let (w, h) = size.split_once('x').ok_or("the size is WIDTHxHEIGHT")?;
    let (w, h, rate, frames): (usize, usize, u32, usize) = (w.parse()?, h.parse()?, rate.parse()?, frames.parse()?);
    let mut scene = Scene::new(w, h, name.bytes().fold(0, u8::wrapping_add));
    let mut out = BufWriter::new(stdout().lock());
    writeln!(out, "YUV4MPEG2 W{w} H{h} F{rate}:1 Ip A1:1 C420jpeg")?;
    for n in 0..frames {
        scene.draw(n, frames, name);
        out.write_all(b"FRAME\n")?;
        for plane in [&scene.y, &scene.u, &scene.v] {
            out.write_all(plane)?;
        }
    }
    Ok(out.flush()?)
}
