//! What a profile says of a device that is made of blocks: their kinds, where they begin, parameters that no standard lists.

/// The blocks of one kind of device.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct DeviceBlocks {
    /// The path of its profile.
    pub path: String,
    /// Its maker's number.
    pub manufacturer: Option<u32>,
    /// Its type, of that maker.
    pub device_type: Option<u32>,
    /// The revision of that type for which the indices hold.
    pub revision: Option<u32>,
    /// All blocks, in file order.
    pub blocks: Vec<DeviceBlock>,
}

/// One block.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct DeviceBlock {
    /// Its name in addresses.
    pub name: String,
    /// Its kind, as the file says it.
    pub kind: String,
    /// Index of its block object.
    pub start: u32,
    /// How long it takes to run, in microseconds.
    pub execution: Option<u32>,
    /// Its channels, each with the units that a value may have there.
    pub channels: Vec<(u32, Vec<String>)>,
    /// Parameters besides those of its kind, or in place of them.
    pub parameters: Vec<BlockParameter>,
}

/// A parameter of a block that the profile describes.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct BlockParameter {
    /// Its name in addresses.
    pub name: String,
    /// Its place in the block, from 1.
    pub place: u32,
    /// Its type, as the file says it.
    pub type_name: String,
    /// Whether it may be written.
    pub read_write: bool,
}

impl DeviceBlocks {
    /// The block of that name, whatever its capitals.
    #[must_use]
    pub fn block(&self, name: &str) -> Option<&DeviceBlock> {
        self.blocks.iter().find(|block| block.name.eq_ignore_ascii_case(name))
    }
}
