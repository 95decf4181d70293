//! What every emitter is made to say.
mod zwtrace;
use std::io::Stdout;
use zwtrace::{About, Trace};

type T = Trace<Stdout>;

fn picture(tr: &mut T, t: f64, tick: i64, x: f64, gait: &str, tired: bool, rest: fn(&mut T)) {
    tr.begin(t, tick);
    tr.set("dog/fern", "x", x);
    tr.set("dog/fern", "gait", gait);
    tr.set("dog/fern", "tired", tired);
    rest(tr);
    tr.end();
}

fn nothing(_: &mut T) {}

fn sheep(tr: &mut T) {
    tr.set("sheep/s01", "x", 10.0);
    tr.set("sheep/s01", "y", 0.5);
}

fn gate(tr: &mut T) {
    tr.set("gate/n", "label", "say \"hi\"\\\n\u{1} über 羊");
}

fn odd(tr: &mut T) {
    gate(tr);
    tr.set("sheep/s02", "x", f64::INFINITY);
    tr.set("sheep/s02", "y", f64::NEG_INFINITY);
}

fn own(tr: &mut T) {
    tr.received();
    tr.set("dog/fern", "x", 0.125);
    tr.predicted();
    tr.set("dog/fern", "x", 0.5);
    tr.set("dog/fern", "tired", false);
}

fn main() {
    let tr = &mut Trace::new(std::io::stdout());
    tr.joined(0.0, "fern", "dog/fern");
    picture(tr, 0.0, 0, -3.25, "run", false, sheep);
    picture(tr, 0.05, 1, -2.875, "run", false, sheep);
    picture(tr, 0.1, 2, -2.875, "run", false, sheep);
    picture(tr, 0.15, 3, -2.875, "trot", true, gate);
    tr.event(0.16, "bark", About { id: "81", entity: "dog/fern", by: "fern", to: "moss", data: "{\"loud\":true}" });
    tr.event(0.17, "final", About::default());
    tr.input(0.18, "run", 12);
    tr.checkpoint(0.19, "touch", About { id: "7", entity: "bell/brass", by: "fern", ..About::default() });
    tr.sent(0.191, "1042", "fern", "\"sheep/s01 is gone\"", 96);
    tr.got(0.192, "7", "fern");
    tr.clock(0.2, 0.081, 12.5);
    picture(tr, 0.25, 5, f64::NAN, "trot", true, odd);
    picture(tr, 1.0, 20, 1234567.891, "trot", true, nothing);
    picture(tr, 1.1, -1, 0.0, "trot", true, nothing);
    picture(tr, 1.2, -1, 0.0, "trot", true, own);
    picture(tr, 1.3, -1, 0.0, "trot", true, own);
    tr.at(25);
    tr.left(1.5, "fern");
    tr.refused(1.6, "oak");
}
