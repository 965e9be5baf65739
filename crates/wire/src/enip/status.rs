//! General statuses of replies, and the additional ones that say more.

/// The connection failed; a word says how.
pub const CONNECTION_FAILURE: u8 = 0x01;
/// There is no room for it.
pub const RESOURCE_UNAVAILABLE: u8 = 0x02;
/// A segment of the path is none, or names nothing.
pub const PATH_SEGMENT_ERROR: u8 = 0x04;
/// The path leads nowhere.
pub const PATH_DESTINATION_UNKNOWN: u8 = 0x05;
/// There is more.
pub const PARTIAL_TRANSFER: u8 = 0x06;
/// There is no such service here.
pub const SERVICE_NOT_SUPPORTED: u8 = 0x08;
/// The value cannot be taken.
pub const INVALID_ATTRIBUTE_VALUE: u8 = 0x09;
/// Some attribute of a list failed.
pub const ATTRIBUTE_LIST_ERROR: u8 = 0x0A;
/// The attribute cannot be set.
pub const ATTRIBUTE_NOT_SETTABLE: u8 = 0x0E;
/// It may not be done from outside.
pub const PRIVILEGE_VIOLATION: u8 = 0x0F;
/// Not in this state.
pub const DEVICE_STATE_CONFLICT: u8 = 0x10;
/// The reply does not fit.
pub const REPLY_TOO_LARGE: u8 = 0x11;
/// The data are cut.
pub const NOT_ENOUGH_DATA: u8 = 0x13;
/// There is no such attribute.
pub const ATTRIBUTE_NOT_SUPPORTED: u8 = 0x14;
/// The data go on after their end.
pub const TOO_MUCH_DATA: u8 = 0x15;
/// There is no such object.
pub const OBJECT_DOES_NOT_EXIST: u8 = 0x16;
/// Some service of a packet failed.
pub const EMBEDDED_SERVICE_ERROR: u8 = 0x1E;
/// A parameter is wrong.
pub const INVALID_PARAMETER: u8 = 0x20;
/// A tag's refusal; a word says which.
pub const TAG_ERROR: u8 = 0xFF;

/// Words behind [`TAG_ERROR`].
pub mod tag {
    /// The offset is past the tag's end.
    pub const OFFSET_PAST_END: u16 = 0x2104;
    /// The elements go past the tag's end.
    pub const ELEMENTS_PAST_END: u16 = 0x2105;
    /// The tag is of another type.
    pub const TYPE_MISMATCH: u16 = 0x2107;
}

/// Words behind [`CONNECTION_FAILURE`].
pub mod connection {
    /// It is open already.
    pub const DUPLICATE: u16 = 0x0100;
    /// The transport class or trigger is not served.
    pub const CLASS_OR_TRIGGER: u16 = 0x0103;
    /// Another originator has the outputs.
    pub const OWNED: u16 = 0x0106;
    /// There is none of that serial number.
    pub const NOT_FOUND: u16 = 0x0107;
    /// A size is not served.
    pub const INVALID_SIZE: u16 = 0x0109;
    /// The packet interval is not served.
    pub const INTERVAL_UNSUPPORTED: u16 = 0x0111;
    /// The packet interval is not acceptable; five more words say what is.
    pub const INTERVAL: u16 = 0x0112;
    /// There are as many as there may be.
    pub const OUT_OF_CONNECTIONS: u16 = 0x0113;
    /// The key is for another vendor or product.
    pub const KEY_VENDOR_OR_PRODUCT: u16 = 0x0114;
    /// The key is for another device type.
    pub const KEY_DEVICE_TYPE: u16 = 0x0115;
    /// The key is for another revision.
    pub const KEY_REVISION: u16 = 0x0116;
    /// The path leads to nothing that takes connections.
    pub const INVALID_PATH: u16 = 0x0117;
    /// It would only listen, and nothing is there to listen to.
    pub const LISTEN_ONLY: u16 = 0x0119;
    /// The transport class is not served.
    pub const CLASS: u16 = 0x011C;
    /// The trigger is not served.
    pub const TRIGGER: u16 = 0x011D;
    /// The direction is not served.
    pub const DIRECTION: u16 = 0x011E;
    /// A variable size to the target is not served.
    pub const FIXED_TO_TARGET: u16 = 0x011F;
    /// A variable size to the originator is not served.
    pub const FIXED_TO_ORIGINATOR: u16 = 0x0120;
    /// The type from originator to target is reserved.
    pub const TYPE_TO_TARGET: u16 = 0x0123;
    /// The type from target to originator is reserved.
    pub const TYPE_TO_ORIGINATOR: u16 = 0x0124;
    /// The configuration has another size; one more word says which.
    pub const CONFIGURATION_SIZE: u16 = 0x0126;
    /// The size to the target is another; one more word says which.
    pub const SIZE_TO_TARGET: u16 = 0x0127;
    /// The size to the originator is another; one more word says which.
    pub const SIZE_TO_ORIGINATOR: u16 = 0x0128;
    /// There is no such assembly for the configuration.
    pub const CONFIGURATION_POINT: u16 = 0x0129;
    /// There is no such assembly to the target.
    pub const POINT_TO_TARGET: u16 = 0x012A;
    /// There is no such assembly to the originator.
    pub const POINT_TO_ORIGINATOR: u16 = 0x012B;
    /// A connection that carries nothing is not served.
    pub const NULL: u16 = 0x0132;
    /// The timeout multiplier is reserved.
    pub const MULTIPLIER: u16 = 0x0133;
    /// The request went on and was not answered in time.
    pub const UNCONNECTED_TIMED_OUT: u16 = 0x0204;
    /// There is no such port.
    pub const PORT_NOT_AVAILABLE: u16 = 0x0311;
    /// There is no device at that address of the port.
    pub const LINK_NOT_AVAILABLE: u16 = 0x0312;
}

/// General statuses with their words.
const GENERAL: [&str; 0x2F] = [
    "success",
    "connection failure",
    "resource unavailable",
    "invalid parameter value",
    "path segment error",
    "path destination unknown",
    "partial transfer",
    "connection lost",
    "service not supported",
    "invalid attribute value",
    "attribute list error",
    "already in that state",
    "object state conflict",
    "object exists already",
    "attribute not settable",
    "privilege violation",
    "device state conflict",
    "reply too large",
    "fragmentation of a primitive",
    "not enough data",
    "attribute not supported",
    "too much data",
    "object does not exist",
    "no fragmentation in progress",
    "no stored attribute data",
    "store failed",
    "routing: request too large",
    "routing: reply too large",
    "attribute list entry missing data",
    "invalid attribute value list",
    "embedded service error",
    "vendor specific",
    "invalid parameter",
    "write-once already written",
    "invalid reply received",
    "buffer overflow",
    "message format error",
    "key failure in path",
    "path size invalid",
    "unexpected attribute in list",
    "invalid member id",
    "member not settable",
    "group 2 only server failure",
    "unknown Modbus error",
    "attribute not gettable",
    "instance not deletable",
    "service not supported for this path",
];

/// The numbers of general statuses that have words.
pub fn known() -> impl Iterator<Item = u8> {
    (0..u8::try_from(GENERAL.len()).unwrap_or(0)).chain([TAG_ERROR])
}

/// What a general status means.
#[must_use]
pub fn words(status: u8) -> &'static str {
    match GENERAL.get(usize::from(status)) {
        Some(words) => words,
        None if status == TAG_ERROR => "refused by the tag",
        None if status >= 0xD0 => "specific to the object",
        None => "reserved",
    }
}

/// Words behind [`CONNECTION_FAILURE`] and [`TAG_ERROR`], in the order in which `health.last-error` counts them.
pub const ADDITIONAL: [(u8, u16, &str); 44] = [
    (0x01, 0x0100, "connection already open"),
    (0x01, 0x0103, "transport class or trigger not supported"),
    (0x01, 0x0106, "output owned by another originator"),
    (0x01, 0x0107, "no such connection to close"),
    (0x01, 0x0108, "invalid network parameter"),
    (0x01, 0x0109, "invalid connection size"),
    (0x01, 0x0111, "packet interval not supported"),
    (0x01, 0x0112, "packet interval not acceptable"),
    (0x01, 0x0113, "out of connections"),
    (0x01, 0x0114, "key: other vendor or product"),
    (0x01, 0x0115, "key: other device type"),
    (0x01, 0x0116, "key: other revision"),
    (0x01, 0x0117, "invalid application path"),
    (0x01, 0x0118, "invalid configuration path"),
    (0x01, 0x0119, "listen-only without another connection"),
    (0x01, 0x011C, "transport class not supported"),
    (0x01, 0x011D, "trigger not supported"),
    (0x01, 0x011E, "direction not supported"),
    (0x01, 0x011F, "fixed or variable size to the target not supported"),
    (0x01, 0x0120, "fixed or variable size to the originator not supported"),
    (0x01, 0x0121, "priority to the target not supported"),
    (0x01, 0x0122, "priority to the originator not supported"),
    (0x01, 0x0123, "connection type to the target not supported"),
    (0x01, 0x0124, "connection type to the originator not supported"),
    (0x01, 0x0126, "configuration size wrong"),
    (0x01, 0x0127, "size to the target wrong"),
    (0x01, 0x0128, "size to the originator wrong"),
    (0x01, 0x0129, "configuration point unknown"),
    (0x01, 0x012A, "point to the target unknown"),
    (0x01, 0x012B, "point to the originator unknown"),
    (0x01, 0x0132, "null connection not supported"),
    (0x01, 0x0133, "timeout multiplier not acceptable"),
    (0x01, 0x0203, "connection timed out"),
    (0x01, 0x0204, "request timed out behind the route"),
    (0x01, 0x0205, "bad request to the route"),
    (0x01, 0x0301, "no buffer"),
    (0x01, 0x0302, "no bandwidth"),
    (0x01, 0x0311, "no such port in the route"),
    (0x01, 0x0312, "no device at that address of the route"),
    (0x01, 0x0315, "invalid segment in the route"),
    (0x01, 0x0316, "connection path does not fit"),
    (0xFF, 0x2104, "offset past the tag's end"),
    (0xFF, 0x2105, "elements past the tag's end"),
    (0xFF, 0x2107, "type mismatch"),
];

/// What a word behind a general status means; `None` where it says nothing more.
#[must_use]
pub fn additional_words(status: u8, word: u16) -> Option<&'static str> {
    ADDITIONAL.iter().find(|(own, code, _)| (*own, *code) == (status, word)).map(|(.., words)| *words)
}
