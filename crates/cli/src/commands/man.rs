//! `woodrush man`: manual pages of the program and of each command.

use crate::console::Console;
use crate::{Failure, Verdict};
use clap_mangen::Man;
use std::path::Path;

/// Prints the program's page, or writes one page for it and one for each command into a folder.
pub(crate) fn run(console: &mut Console, dir: Option<&Path>) -> Result<Verdict, Failure> {
    let all = crate::args::command();
    let page = |command: clap::Command| -> Result<Vec<u8>, Failure> {
        let mut page = vec![];
        Man::new(command).render(&mut page)?;
        Ok(page)
    };
    let Some(dir) = dir else {
        console.say(String::from_utf8_lossy(&page(all)?).trim_end())?;
        return Ok(Verdict::Yes);
    };
    let write = |name: &str, page: &[u8]| {
        let path = dir.join(format!("{name}.1"));
        std::fs::write(&path, page)
            .map_err(|error| Failure::Outside(format!("{} cannot be written: {error}", path.display())))
    };
    std::fs::create_dir_all(dir)
        .map_err(|error| Failure::Outside(format!("{} cannot be made: {error}", dir.display())))?;
    write("woodrush", &page(all.clone())?)?;
    let mut count = 1;
    for command in all.get_subcommands() {
        let name = format!("woodrush-{}", command.get_name());
        let called = format!("woodrush {}", command.get_name());
        write(&name, &page(command.clone().name(name.clone()).bin_name(called))?)?;
        count += 1;
    }
    console.say(&format!("{count} manual pages written to {}", dir.display()))?;
    Ok(Verdict::Yes)
}
