//! The list of a controller's programmer: a table with a header, columns in any order, heads in any of the usual spellings.

use super::Project;
use super::reader::load_text;
use crate::finding::Finding;
use crate::nearest::nearest;
use crate::protocol::{Access, Declared, DeclaredName};
use crate::sheet::{ROWS_MAX, Sheet, SheetRow};
use crate::source::{Span, Spanned};
use std::sync::Arc;

/// Columns, with the spellings of their heads in small letters.
const HEADS: [(&str, &[&str]); 5] = [
    ("name", &["name", "tag", "tag name", "tagname", "symbol", "variable"]),
    ("type", &["type", "data type", "datatype", "data-type"]),
    ("elements", &["elements", "dimension", "dimensions", "dim", "size", "count", "length"]),
    (
        "access",
        &["access", "external access", "externalaccess", "external_access", "external-access", "rights"],
    ),
    ("scope", &["scope", "program"]),
];

/// Reads the lists that devices name; each once.
pub(super) fn read_lists(
    project: &mut Project,
    wanted: &[(usize, Spanned<String>)],
    load: &mut dyn FnMut(&str) -> Result<String, String>,
    findings: &mut Vec<Finding>,
) {
    let mut known: Vec<(String, Option<Arc<Declared>>)> = vec![];
    for (device, path) in wanted {
        let list = match known.iter().find(|(own, _)| *own == path.value) {
            Some((_, list)) => list.clone(),
            None => {
                let list = read_list(project, path, load, findings);
                known.push((path.value.clone(), list.clone()));
                list
            }
        };
        if let Some(device) = project.devices.get_mut(*device) {
            device.setup.declared = list;
        }
    }
}

fn read_list(
    project: &mut Project,
    path: &Spanned<String>,
    load: &mut dyn FnMut(&str) -> Result<String, String>,
    findings: &mut Vec<Finding>,
) -> Option<Arc<Declared>> {
    let text = load_text("list", path, load).map_err(|finding| findings.push(finding)).ok()?;
    let text = text.strip_prefix('\u{feff}').map(str::to_string).unwrap_or(text);
    let file = project.sources.add(path.value.clone(), text.clone());
    match table(&text, &path.value, file, findings) {
        Some(list) => Some(Arc::new(list)),
        None => {
            // Nothing of it is shown: a path that went astray may lead to what is not for all eyes.
            project.sources.forget(file);
            let what =
                format!("`{}` is not a list of names: no line has the heads `name` and `type`", path.value);
            let fix = "write a header such as `name,type,elements,access`";
            findings.push(Finding::new("F07", path.span, what).fix(fix));
            None
        }
    }
}

fn table(text: &str, path: &str, file: u16, findings: &mut Vec<Finding>) -> Option<Declared> {
    let (sheet, head, columns) = Sheet::find_by(text, &|row| {
        let columns = heads(row)?;
        Some((columns.iter().flatten().count(), columns))
    })?;
    let span = |row: &SheetRow| {
        let line = row.first_line(text);
        let number = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
        Span { file, start: number(line.start), end: number(line.end) }
    };
    let mut list = Declared::new(path);
    for own in sheet.rows.iter().skip(head + 1) {
        let span = span(own);
        let column = |at: usize| columns.get(at).copied().flatten().map_or("", |at| own.cell(at));
        match row(column, span) {
            Ok(row) => {
                let name = row.name.clone();
                if let Err(known) = list.add(row) {
                    let what = format!("`{name}` is in the list twice");
                    let known = known.span;
                    findings.push(
                        Finding::new("M33", span, what).note(known, "the other").fix("keep one of the lines"),
                    );
                }
            }
            Err((what, fix)) => findings.push(Finding::new("M33", span, what).fix(fix)),
        }
    }
    if let Some(last) = sheet.rows.last().filter(|_| sheet.is_cut) {
        let most = ROWS_MAX as u64;
        findings.push(super::caps::too_many(span(last), "names in a list and more", most + 1, most));
    }
    Some(list)
}

/// Which column is what; `None` where the line is no header.
fn heads(row: &SheetRow) -> Option<[Option<usize>; HEADS.len()]> {
    let mut columns = [None; HEADS.len()];
    for (at, head) in row.cells().enumerate() {
        let head = head.trim_start_matches('#').trim().to_lowercase();
        let known = HEADS.iter().position(|(_, spellings)| spellings.contains(&head.as_str()));
        if let Some(column) = known.and_then(|known| columns.get_mut(known)) {
            column.get_or_insert(at);
        }
    }
    let [name, kind, ..] = columns;
    name.and(kind).map(|_| columns)
}

fn row<'r>(column: impl Fn(usize) -> &'r str, span: Span) -> Result<DeclaredName, (String, String)> {
    let [name, kind, elements, access, scope] = [0, 1, 2, 3, 4].map(&column);
    if name.is_empty() || kind.is_empty() {
        return Err(("a line has no name or no type".into(), "write both, or leave the line out".into()));
    }
    // A dimension may stand behind the type, behind the name, or in a column of its own.
    let (name, of_name) = split(name);
    let (type_name, of_type) = split(kind);
    let written =
        [of_type, of_name, Some(elements).filter(|text| !text.is_empty())].into_iter().flatten().next();
    let dimensions = match written.map(dimensions) {
        None => vec![],
        Some(Some(dimensions)) => dimensions,
        Some(None) => {
            let what = format!("`{}` is not a valid number of elements", written.unwrap_or_default());
            return Err((what, "write `20`, `4,5` or `[4,5]`".into()));
        }
    };
    let in_program = !matches!(scope.to_lowercase().as_str(), "" | "controller" | "global");
    let name =
        if in_program && !name.contains(':') { format!("Program:{scope}.{name}") } else { name.to_string() };
    Ok(DeclaredName { span, name, type_name: type_name.to_string(), dimensions, access: access_of(access)? })
}

/// A text, and what stands in brackets at its end.
fn split(text: &str) -> (&str, Option<&str>) {
    match text.strip_suffix(']').and_then(|rest| rest.rsplit_once('[')) {
        Some((head, inner)) => (head.trim(), Some(inner)),
        None => (text, None),
    }
}

/// `20`, `4,5`, `4 x 5`, `0..19`, `[20]`; an empty list for `0` and `1`, which say that it is no array.
fn dimensions(text: &str) -> Option<Vec<u32>> {
    let inner = text.trim().trim_start_matches('[').trim_end_matches(']');
    let mut found = vec![];
    for part in inner.split([',', 'x', ';']) {
        let part = part.trim();
        let number = match part.split_once("..") {
            Some((low, high)) => {
                let (low, high): (u32, u32) = (low.trim().parse().ok()?, high.trim().parse().ok()?);
                high.checked_sub(low)?.checked_add(1)?
            }
            None => part.parse().ok()?,
        };
        found.push(number);
    }
    if matches!(found[..], [0 | 1]) {
        found.clear();
    }
    (found.len() <= 3 && !found.contains(&0)).then_some(found)
}

fn access_of(text: &str) -> Result<Access, (String, String)> {
    let plain: String = text.to_lowercase().chars().filter(|letter| letter.is_ascii_alphabetic()).collect();
    match plain.as_str() {
        "" | "readwrite" | "rw" | "full" => Ok(Access::ReadWrite),
        "readonly" | "read" | "ro" | "r" => Ok(Access::ReadOnly),
        "none" | "no" | "hidden" => Ok(Access::None),
        _ => {
            let near = nearest(&plain, ["read-write", "read-only", "none"]).unwrap_or("read-write");
            Err((
                format!("`{text}` is not a valid access"),
                format!("write `{near}`: one of read-write, read-only, none"),
            ))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(text: &str) -> (Option<Declared>, Vec<String>) {
        let mut findings = vec![];
        let list = table(text, "tags.csv", 0, &mut findings);
        (list, findings.iter().map(|finding| finding.what.clone()).collect())
    }

    #[test]
    fn lists_are_read_as_programmers_write_them() {
        let plain = "name,type,elements,access,comment\nLevel,REAL,,read-only,\"a, b\"\nTemps,REAL[20],,RW,\nGrid,DINT,\"4,5\",none,\n";
        let (list_of, found) = list(plain);
        assert_eq!(found, [""; 0]);
        let list_of = list_of.unwrap();
        let told = |name: &str| {
            let row = list_of.get(name).unwrap();
            (row.type_name.as_str(), row.dimensions.clone(), row.access)
        };
        assert_eq!(told("LEVEL"), ("REAL", vec![], Access::ReadOnly));
        assert_eq!(told("Temps"), ("REAL", vec![20], Access::ReadWrite));
        assert_eq!(told("Grid"), ("DINT", vec![4, 5], Access::None));
        let other = "Controller tags\r\nData Type;Tag Name;External Access;Program\r\nBOOL[0..63];Alarms;Read/Write;\r\nREAL;Oxygen;Read Only;Feed\r\n";
        let (list_of, found) = list(other);
        assert_eq!(found, [""; 0]);
        let list_of = list_of.unwrap();
        assert_eq!(list_of.get("alarms").unwrap().dimensions, [64]);
        let own = list_of.get("program:feed.oxygen").unwrap();
        assert_eq!((own.name.as_str(), own.access), ("Program:Feed.Oxygen", Access::ReadOnly));
        let span = own.span;
        assert_eq!(other.get(span.start as usize..span.end as usize), Some("REAL;Oxygen;Read Only;Feed"));
    }

    #[test]
    fn lines_that_are_not_understood_are_told_one_by_one() {
        let (list_of, found) =
            list("name,type,access\nLevel,REAL,\nlevel,DINT,\n,REAL,\nTemps,REAL[x],\nRun,BOOL,sometimes\n");
        assert_eq!(list_of.unwrap().iter().len(), 1);
        assert_eq!(
            found,
            [
                "`level` is in the list twice",
                "a line has no name or no type",
                "`x` is not a valid number of elements",
                "`sometimes` is not a valid access"
            ]
        );
        assert!(list("root:x:0:0\n").0.is_none(), "no list at all");
        assert!(list("").0.is_none());
    }
}
