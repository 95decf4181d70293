//! Writes trace lines for zwheel: one file without dependencies, to be copied into a
//! game. Say everything that a view believes each time; the lines have only what has
//! changed, and a full snapshot about once a second.
//!
//!     let mut trace = zwtrace::Trace::new(std::io::stdout());
//!     trace.joined(t, "fern", "dog/fern");
//!     trace.begin(t, tick);                // tick -1: the game has none
//!     trace.set("dog/fern", "x", x);       // the fields of an entity in a row:
//!     trace.set("dog/fern", "gait", "run"); // numbers, texts and flags
//!     trace.predicted();                   // optional: what follows is what the client predicts,
//!     trace.set("dog/fern", "x", p);       // or after received() what last came for it
//!     trace.end();                         // what was not named is despawned
//!
//! Times are seconds on any clock that does not run backwards.
#![allow(dead_code)]

use std::collections::HashMap;
use std::io::Write;

type Thing = (String, Vec<(String, String)>); // an entity, and its fields with their values as they are written

/// Writes the trace lines of one view.
pub struct Trace<W: Write> {
    out: W,
    t: f64,
    tick: i64,
    said: [Vec<Thing>; 3], // since begin: the state, what was received, what is predicted
    part: usize,           // which of them is said now
    told: [String; 2],     // the last two, as they were written last
    before: HashMap<String, HashMap<String, String>>, // what was said last
    names: Vec<String>,    // of before, in order
    full: f64,             // when a full snapshot is due
    started: bool,
}

/// A value of a field: a number, a text or a flag.
pub trait Value {
    fn written(&self) -> String;
}

impl Value for f64 {
    fn written(&self) -> String {
        if self.is_nan() {
            return "\"NaN\"".into();
        }
        if self.is_infinite() {
            return if *self > 0.0 { "\"Infinity\"" } else { "\"-Infinity\"" }.into();
        }
        format!("{:.3}", self)
    }
}
impl Value for f32 {
    fn written(&self) -> String {
        f64::from(*self).written()
    }
}
impl Value for i64 {
    fn written(&self) -> String {
        self.to_string()
    }
}
impl Value for i32 {
    fn written(&self) -> String {
        self.to_string()
    }
}
impl Value for bool {
    fn written(&self) -> String {
        self.to_string()
    }
}
impl Value for &str {
    fn written(&self) -> String {
        quote(self)
    }
}
impl Value for String {
    fn written(&self) -> String {
        quote(self)
    }
}

/// What an event or a checkpoint says beside its name. What is "" is left out; data is JSON text.
#[derive(Default)]
pub struct About<'a> {
    pub id: &'a str,
    pub entity: &'a str,
    pub by: &'a str,
    pub to: &'a str,
    pub data: &'a str,
}

impl<W: Write> Trace<W> {
    /// A trace that is written to out, one write a line.
    pub fn new(out: W) -> Self {
        Trace { out, t: 0.0, tick: -1, said: Default::default(), part: 0, told: Default::default(), before: HashMap::new(), names: Vec::new(), full: 0.0, started: false }
    }

    /// Begins a snapshot of the world at a time.
    pub fn begin(&mut self, t: f64, tick: i64) {
        self.t = t;
        self.tick = tick;
        self.part = 0;
        self.said = Default::default();
    }

    /// Says of which tick the events, joins and leaves are that follow, up to the next
    /// snapshot, which says its own; -1: of none.
    pub fn at(&mut self, tick: i64) {
        self.tick = tick;
    }

    /// What is said from here to the end of the snapshot is what last came for it.
    pub fn received(&mut self) {
        self.part = 1;
    }

    /// What is said from here to the end of the snapshot is what the client predicts.
    pub fn predicted(&mut self) {
        self.part = 2;
    }

    /// Says a field of an entity.
    pub fn set(&mut self, entity: &str, field: &str, value: impl Value) {
        let things = &mut self.said[self.part];
        if things.last().map_or(true, |(name, _)| name != entity) {
            things.push((entity.into(), Vec::new()));
        }
        if let Some((_, fields)) = things.last_mut() {
            fields.push((field.into(), value.written()));
        }
    }

    /// Writes the snapshot: what has changed in it, and its tick if it has one.
    pub fn end(&mut self) {
        let full = !self.started || self.t >= self.full;
        let mut state = Vec::new();
        for (entity, fields) in &self.said[0] {
            if !self.before.contains_key(entity) {
                self.names.push(entity.clone());
            }
            let known = self.before.entry(entity.clone()).or_default();
            let changed: Vec<_> = fields.iter().filter(|(field, value)| full || known.get(field) != Some(value)).cloned().collect();
            known.extend(fields.iter().cloned());
            if !changed.is_empty() {
                state.push(thing(entity, &changed));
            }
        }
        let mut despawned = Vec::new();
        for name in std::mem::take(&mut self.names) {
            if self.said[0].iter().any(|(entity, _)| *entity == name) {
                self.names.push(name);
            } else {
                self.before.remove(&name);
                despawned.push(quote(&name));
            }
        }
        let mut beside = String::new();
        for (i, part) in ["received", "predicted"].iter().enumerate() {
            let text = self.said[i + 1].iter().map(|(entity, fields)| thing(entity, fields)).collect::<Vec<_>>().join(",");
            if !text.is_empty() && (full || text != self.told[i]) {
                beside += &format!(",\"{}\":{{{}}}", part, text);
            }
            self.told[i] = text;
        }
        if self.tick < 0 && !full && state.is_empty() && beside.is_empty() && despawned.is_empty() {
            return;
        }
        let mut line = self.ticked();
        if full {
            self.started = true;
            self.full = self.t + 1.0;
            line += ",\"full\":true";
        }
        if full || !state.is_empty() {
            line += &format!(",\"state\":{{{}}}", state.join(","));
        }
        line += &beside;
        if !full && !despawned.is_empty() {
            line += &format!(",\"despawned\":[{}]", despawned.join(","));
        }
        self.line(self.t, &line);
    }

    /// Says a one-off.
    pub fn event(&mut self, t: f64, name: &str, about: About) {
        let rest = self.ticked() + &key("event", name) + &key("id", about.id) + &key("entity", about.entity) + &key("by", about.by) + &key("to", about.to) + &json(about.data);
        self.line(t, &rest);
    }

    /// Says what the player does from now on.
    pub fn input(&mut self, t: f64, what: &str, seq: u64) {
        self.line(t, &format!("{},\"seq\":{}", key("input", what), seq));
    }

    /// Says that the code has passed a checkpoint.
    pub fn checkpoint(&mut self, t: f64, name: &str, about: About) {
        self.line(t, &(key("checkpoint", name) + &key("id", about.id) + &key("entity", about.entity) + &key("by", about.by) + &json(about.data)));
    }

    /// Says that a packet was handed to the network: its number, or a hash of it; to whom,
    /// where a server says it; what is in it, as JSON; and how many bytes it has. What is ""
    /// or 0 is left out.
    pub fn sent(&mut self, t: f64, packet: &str, to: &str, data: &str, size: usize) {
        let bytes = if size > 0 { format!(",\"bytes\":{}", size) } else { String::new() };
        self.line(t, &(key("sent", packet) + &key("to", to) + &json(data) + &bytes));
    }

    /// Says that a packet was taken in, and from whom, where a server says it.
    pub fn got(&mut self, t: f64, packet: &str, by: &str) {
        self.line(t, &(key("got", packet) + &key("by", by)));
    }

    /// Says a clock exchange: the round trip, and what the server's clock showed when it
    /// answered, in seconds.
    pub fn clock(&mut self, t: f64, ping: f64, server_t: f64) {
        self.line(t, &format!(",\"ping\":{:.6},\"server_t\":{:.6}", ping, server_t));
    }

    /// Says that a player is in, and which entity is theirs.
    pub fn joined(&mut self, t: f64, name: &str, entity: &str) {
        let rest = self.ticked() + &key("joined", name) + &key("entity", entity);
        self.line(t, &rest);
    }

    /// Says that a player has left.
    pub fn left(&mut self, t: f64, name: &str) {
        let rest = self.ticked() + &key("left", name);
        self.line(t, &rest);
    }

    /// Says that a player was not let in.
    pub fn refused(&mut self, t: f64, name: &str) {
        let rest = self.ticked() + &key("refused", name);
        self.line(t, &rest);
    }

    fn ticked(&self) -> String {
        if self.tick < 0 {
            String::new()
        } else {
            format!(",\"tick\":{}", self.tick)
        }
    }

    fn line(&mut self, t: f64, rest: &str) {
        let line = format!("{{\"t\":{:.6}{}}}\n", t, rest);
        // A trace that cannot be written must not stop the game.
        let _ = self.out.write_all(line.as_bytes());
        let _ = self.out.flush();
    }
}

fn thing(entity: &str, fields: &[(String, String)]) -> String {
    let list: Vec<_> = fields.iter().map(|(field, value)| format!("{}:{}", quote(field), value)).collect();
    format!("{}:{{{}}}", quote(entity), list.join(","))
}

fn key(name: &str, value: &str) -> String {
    if value.is_empty() {
        String::new()
    } else {
        format!(",\"{}\":{}", name, quote(value))
    }
}

fn json(data: &str) -> String {
    if data.is_empty() {
        String::new()
    } else {
        format!(",\"data\":{}", data)
    }
}

fn quote(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            '\n' => quoted += "\\n",
            c if (c as u32) < 0x20 => quoted += &format!("\\u{:04x}", c as u32),
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}
