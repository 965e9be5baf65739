//! Words that are read now, with their addresses, and looks that are kept for the next time.

use crate::args::{DecodeArgs, Global};
use crate::connections::Connections;
use crate::console::Console;
use crate::{Failure, kept};
use serde::{Deserialize, Serialize};
use std::path::Path;
use woodrush_core::decode::Sample;
use woodrush_core::form::Type;
use woodrush_core::wanted::Wanted;

/// Most words that are read at once: what a person waits for on a slow line.
const LIVE_MAX: u32 = 2000;
/// Most looks that are kept; the oldest go.
const LOOKS_MAX: usize = 100;

/// Words, and where each of them lies; no places where they were typed.
pub(super) struct Given {
    pub(super) words: Vec<u16>,
    pub(super) at: Vec<String>,
}

/// Reads the words of one target now; `None` where that failed, which is told.
pub(super) fn read(
    console: &mut Console,
    global: &Global,
    args: &DecodeArgs,
) -> Result<Option<Given>, Failure> {
    let (mut connections, texts) = Connections::of_station(global, &args.way, &args.words)?;
    let wanted = connections.wanted(texts)?;
    let [one] = wanted.as_slice() else {
        return Err(Failure::Usage(
            "one place is decoded at a time: name one point or address, with more of them such as `DEVICE:400201 x100`".into(),
        ));
    };
    let words = one.place.extent().count * u32::try_from(one.each()).unwrap_or(2) / 2;
    if words > LIVE_MAX {
        return Err(Failure::Usage(format!("{words} words are too many for one look (at most {LIVE_MAX})")));
    }
    match crate::commands::read::value(&mut connections, one) {
        Ok((cells, _)) if one.form.ty != Type::Bool && cells.len().is_multiple_of(2) => {
            let word = |pair: &[u8]| pair.iter().fold(0u16, |sum, byte| sum << 8 | u16::from(*byte));
            let words: Vec<u16> = cells.chunks(2).map(word).collect();
            let at = (0..words.len()).map(|at| address(one, at)).collect();
            Ok(Some(Given { words, at }))
        }
        Ok(_) => Err(Failure::Usage(format!("`{}` is a bit: there is nothing to decode", one.written))),
        Err(failed) => {
            let text = crate::render::diagnosis::text(console, &one.written, &failed.diagnosis);
            console.complain(&text);
            Ok(None)
        }
    }
}

/// Where the word of that number lies.
fn address(wanted: &Wanted, word: usize) -> String {
    let grain = u32::try_from(word * 2 / wanted.each().max(1)).unwrap_or(0);
    let station = &wanted.station;
    match (station.dialect, station.space_at(wanted.place.space)) {
        (Some(dialect), Some(space)) => {
            dialect.notation().show(space, wanted.place.first + grain, 1, None, &station.setup).canonical
        }
        _ => wanted.written.clone(),
    }
}

/// The file's shape.
#[derive(Serialize, Deserialize)]
struct SampleFile {
    format: u32,
    /// The first and the last address.
    from: String,
    to: String,
    looks: Vec<KeptSample>,
}

#[derive(Serialize, Deserialize)]
struct KeptSample {
    words: Vec<u16>,
    value: f64,
}

/// The looks that a file keeps of these addresses, with this one as the last; they are kept with it.
pub(super) fn keep(path: &Path, given: &Given, value: f64) -> Result<Vec<Sample>, Failure> {
    let (from, to) =
        (given.at.first().cloned().unwrap_or_default(), given.at.last().cloned().unwrap_or_default());
    let before: Option<SampleFile> = kept::load(path, "not a file of kept looks")?;
    if let Some(file) = &before
        && (&file.from, &file.to) != (&from, &to)
    {
        return Err(Failure::Usage(format!(
            "{} keeps looks at {} to {}, and this is one at {from} to {to} (name another file)",
            path.display(),
            file.from,
            file.to
        )));
    }
    let mut looks = before.map_or_else(Vec::new, |file| file.looks);
    // A file from elsewhere may say anything.
    looks.retain(|look| look.words.len() == given.words.len() && look.value.is_finite());
    looks.push(KeptSample { words: given.words.clone(), value });
    looks.drain(..looks.len().saturating_sub(LOOKS_MAX));
    let file = SampleFile { format: 1, from, to, looks };
    kept::save(path, &file)?;
    Ok(file.looks.into_iter().map(|look| Sample { words: look.words, value: look.value }).collect())
}
