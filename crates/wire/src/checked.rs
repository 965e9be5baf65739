//! The tables of checked vectors in `testdata`, as tests read them.

use serde::Deserialize;

/// One vector.
#[derive(Deserialize, Clone)]
pub(crate) struct Vector {
    pub(crate) name: String,
    pub(crate) layer: String,
    hex: String,
    pub(crate) valid: bool,
}

impl Vector {
    pub(crate) fn bytes(&self) -> Vec<u8> {
        bytes_of(&self.hex)
    }
}

/// Bytes from pairs of hex digits, with blanks between them or without.
pub(crate) fn bytes_of(text: &str) -> Vec<u8> {
    let digits: String = text.split_whitespace().collect();
    (0..digits.len()).step_by(2).map(|at| u8::from_str_radix(&digits[at..at + 2], 16).unwrap()).collect()
}

/// The text of a table.
pub(crate) struct Vectors(pub(crate) &'static str);

impl Vectors {
    pub(crate) fn all(&self) -> Vec<Vector> {
        serde_json::from_str(self.0).unwrap()
    }

    /// Those of a layer, at least one.
    pub(crate) fn layer(&self, layer: &str) -> Vec<Vector> {
        let chosen: Vec<Vector> = self.all().into_iter().filter(|own| own.layer == layer).collect();
        assert!(!chosen.is_empty(), "no vectors of layer {layer}");
        chosen
    }

    /// Names and bytes of those of a layer that are sound, or of those that are not; at least one.
    pub(crate) fn judged(&self, layer: &str, valid: bool) -> Vec<(String, Vec<u8>)> {
        let chosen = self.layer(layer).into_iter().filter(|own| own.valid == valid);
        let found: Vec<_> = chosen.map(|own| (own.name.clone(), own.bytes())).collect();
        assert!(!found.is_empty(), "no vectors of layer {layer} that are {valid}");
        found
    }

    /// The bytes of one.
    pub(crate) fn bytes(&self, name: &str) -> Vec<u8> {
        self.all().iter().find(|own| own.name == name).unwrap_or_else(|| panic!("no vector {name}")).bytes()
    }
}

/// What is appended to a buffer that has something in it already.
pub(crate) fn emitted(write: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
    let mut out = vec![0xA5; 3];
    write(&mut out);
    out.split_off(3)
}
