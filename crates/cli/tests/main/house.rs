//! The house's own rules, held by reading its sources.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

const CRATES: [&str; 4] = ["wire", "core", "engine", "cli"];
/// Folders that are a protocol's own, on every floor.
const PROTOCOLS: [&str; 5] = ["modbus", "tables", "df1", "isotcp", "enip"];

/// A source file of a crate, by its path below `src`, without its tests.
fn sources(krate: &str) -> Vec<(String, String)> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(krate).join("src");
    let mut found = vec![];
    let mut folders: Vec<PathBuf> = vec![root.clone()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            let name = path.strip_prefix(&root).unwrap().to_string_lossy().into_owned();
            if path.is_dir() {
                folders.extend(Some(path).filter(|path| !path.ends_with("tests")));
            } else if name.ends_with(".rs") && !name.ends_with("tests.rs") && !name.contains("exercise") {
                let text = std::fs::read_to_string(&path).unwrap();
                let own = text.split("#[cfg(test)]\nmod tests {").next().unwrap_or_default();
                found.push((name, own.to_string()));
            }
        }
    }
    found.sort();
    assert!(found.len() > 10, "{krate}");
    found
}

/// Lines that are no comment.
fn code(text: &str) -> impl Iterator<Item = (usize, &str)> {
    (1..).zip(text.lines()).filter(|(_, line)| !line.trim_start().starts_with("//"))
}

#[test]
fn a_protocol_is_named_in_its_folders_and_in_the_two_lists_only() {
    let words = [
        "modbus",
        "mbap",
        "rtu",
        "df1",
        "isotcp",
        "iso-on-tcp",
        "fetch-write",
        "tsap",
        "enip",
        "ethernet-ip",
        "cip",
    ];
    // The two lists, and the title of the check that `explain` and the documents name so.
    let allowed = ["protocol/mod.rs", "speak/mod.rs", "finding/rules.rs"];
    let mut wrong = vec![];
    for krate in ["core", "engine", "cli"] {
        for (name, text) in sources(krate) {
            let own = PROTOCOLS.iter().any(|protocol| name.split('/').any(|part| part == *protocol));
            if own || allowed.contains(&name.as_str()) || name.ends_with("small_site.rs") {
                continue;
            }
            for (number, line) in code(&text) {
                let lower = line.to_lowercase();
                let mut parts = lower.split(|letter: char| !letter.is_alphanumeric() && letter != '-');
                if parts.any(|part| words.contains(&part)) {
                    wrong.push(format!("{krate}/{name}:{number}: {}", line.trim()));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn a_type_has_a_name_of_its_own_in_its_crate() {
    let mut twice = vec![];
    for krate in CRATES {
        let mut places: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for (name, text) in sources(krate) {
            // The same role in each protocol's folder has the same name in the codecs.
            if krate == "wire" {
                continue;
            }
            for (_, line) in code(&text) {
                let line = line.trim_start_matches("pub ").trim_start_matches("pub(super) ");
                let line = line.trim_start_matches("pub(crate) ");
                let kind =
                    ["struct ", "enum ", "trait ", "type "].iter().find_map(|kind| line.strip_prefix(kind));
                let Some(rest) = kind else { continue };
                let end = rest.find(|letter: char| !letter.is_alphanumeric()).unwrap_or(rest.len());
                places.entry(rest[..end].to_string()).or_default().push(name.clone());
            }
        }
        let more = places.into_iter().filter(|(_, places)| places.len() > 1);
        twice.extend(more.map(|(name, places)| format!("{krate}: {name} in {}", places.join(", "))));
    }
    assert!(twice.is_empty(), "{}", twice.join("\n"));
}

/// The folder that a file is in, or the file itself where it is in none.
fn folder(name: &str) -> &str {
    name.split('/').next().unwrap_or_default().trim_end_matches(".rs")
}

/// By folder: what it uses of the others, each with the file that does.
fn uses(krate: &str) -> BTreeMap<String, BTreeMap<String, String>> {
    let files = sources(krate);
    let mut found: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
    for (name, text) in files.iter().filter(|(name, _)| !matches!(folder(name), "lib" | "main")) {
        let own = found.entry(folder(name).to_string()).or_default();
        for (_, line) in code(text) {
            for used in line.split("crate::").skip(1) {
                let end = used.find(|letter: char| !letter.is_alphanumeric() && letter != '_');
                let used = &used[..end.unwrap_or(used.len())];
                if used != folder(name) && files.iter().any(|(file, _)| folder(file) == used) {
                    own.insert(used.to_string(), name.clone());
                }
            }
        }
    }
    found
}

#[test]
fn no_folder_uses_one_that_uses_it() {
    for krate in CRATES {
        let mut uses = uses(krate);
        // Without those that use nothing of the rest, again and again, only circles stay.
        loop {
            let rest: Vec<String> = uses.keys().cloned().collect();
            uses.values_mut().for_each(|used| used.retain(|name, _| rest.contains(name)));
            let before = uses.len();
            uses.retain(|_, used| !used.is_empty());
            if uses.len() == before {
                break;
            }
        }
        assert!(uses.is_empty(), "{krate}: {uses:#?}");
    }
}

/// Who must know everything of something knows too much.
const TRAIT_MAX: usize = 15;

#[test]
fn no_trait_has_more_methods_than_one_can_keep_in_mind() {
    for krate in CRATES {
        for (name, text) in sources(krate) {
            for (at, _) in text.match_indices("trait ") {
                let Some(body) = text[at..].split("\n}\n").next().filter(|body| body.contains("    fn "))
                else {
                    continue;
                };
                let methods = body.lines().filter(|line| line.starts_with("    fn ")).count();
                let head = body.lines().next().unwrap_or_default();
                assert!(methods <= TRAIT_MAX, "{krate}/{name}: {head} has {methods}");
            }
        }
    }
}
