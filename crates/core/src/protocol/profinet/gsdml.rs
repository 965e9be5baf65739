//! The file by which an engineering system knows the device (GSDML, XML): its slots, modules and idents, out of the table
//! that the converter runs on.

use super::ends::bytes;
use super::layout::{HEAD, HEAD_MODULE, IoIdentity, PERIOD_MAX, PERIOD_MIN, StationLayout, Submodule};
use crate::one_line::acts;
use crate::protocol::Setup;
use std::fmt::Write;

/// Version of the format that it is written in.
const VERSION: &str = "V2.35";

/// Text as XML takes it, between tags and in quotes.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in text.chars().filter(|own| !acts(*own)) {
        match letter {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            other => out.push(other),
        }
    }
    out
}

/// The name that such a file must have: `GSDML-V2.35-NAME-STATION-20261130.xml`.
pub(super) fn file_name(image: &str, port: &Setup, (year, month, day): (i16, i8, i8)) -> String {
    let plain = |text: &str| -> String {
        text.chars().map(|own| if own.is_ascii_alphanumeric() { own } else { '_' }).collect()
    };
    let identity = IoIdentity::of(port);
    format!("GSDML-{VERSION}-{}-{}-{year:04}{month:02}{day:02}.xml", plain(&identity.name), plain(image))
}

/// A module that can be plugged: one for each kind of slot.
struct Module<'l> {
    ident: u32,
    slots: Vec<u16>,
    submodules: Vec<&'l Submodule>,
}

fn modules(layout: &StationLayout) -> Vec<Module<'_>> {
    let mut all: Vec<Module<'_>> = vec![];
    for slot in layout.submodules.chunk_by(|own, other| own.slot == other.slot) {
        let Some(first) = slot.first() else { continue };
        let ident = layout.module_ident(first.slot);
        match all.iter_mut().find(|own| own.ident == ident) {
            Some(known) => known.slots.push(first.slot),
            None => all.push(Module { ident, slots: vec![first.slot], submodules: slot.iter().collect() }),
        }
    }
    all
}

fn listed(slots: &[u16]) -> String {
    slots.iter().map(u16::to_string).collect::<Vec<_>>().join(" ")
}

/// What a module is called in a list to choose from.
fn called(module: &Module<'_>) -> String {
    module.submodules.iter().map(|own| bytes(own)).collect::<Vec<_>>().join("; ")
}

/// The file of an image; `date` is the day on which it is made, as year, month and day.
pub(super) fn text(image: &str, setup: &Setup, port: &Setup) -> Option<String> {
    let layout = StationLayout::of(setup)?;
    let identity = IoIdentity::of(port);
    let modules = modules(&layout);
    let slots: Vec<u16> = modules.iter().flat_map(|own| own.slots.iter().copied()).collect();
    let last = slots.iter().max().copied().unwrap_or(1);
    let (_, most_in) = layout.frame(true);
    let (_, most_out) = layout.frame(false);
    let clocks = layout.period / PERIOD_MIN;
    let ratios: Vec<String> = std::iter::successors(Some(clocks.max(1)), |own| Some(own * 2))
        .take_while(|own| *own <= PERIOD_MAX / PERIOD_MIN)
        .map(|own| own.to_string())
        .collect();
    let name = escaped(&identity.name);
    // Thirty-two steps of 31.25 us are a send clock.
    let least = clocks * 32;
    let (dap, interface, head_port) = (HEAD[0].1, HEAD[1], HEAD[2]);
    let mut out = String::new();
    // Writing into a text cannot fail, here and below.
    let _ = write!(
        out,
        r#"<?xml version="1.0" encoding="utf-8"?>
<!-- Made by woodrush out of the project: idents and lengths are those that the converter answers with. -->
<ISO15745Profile xmlns="http://www.profibus.com/GSDML/2003/11/DeviceProfile" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">
  <ProfileHeader>
    <ProfileIdentification>PROFINET Device Profile</ProfileIdentification>
    <ProfileRevision>1.00</ProfileRevision>
    <ProfileName>Device Profile for PROFINET Devices</ProfileName>
    <ProfileSource>PROFIBUS Nutzerorganisation e. V. (PNO)</ProfileSource>
    <ProfileClassID>Device</ProfileClassID>
    <ISO15745Reference>
      <ISO15745Part>4</ISO15745Part>
      <ISO15745Edition>1</ISO15745Edition>
      <ProfileTechnology>GSDML</ProfileTechnology>
    </ISO15745Reference>
  </ProfileHeader>
  <ProfileBody>
    <DeviceIdentity VendorID="0x{vendor:04X}" DeviceID="0x{product:04X}">
      <InfoText TextId="T_DEVICE"/>
      <VendorName Value="{name}"/>
    </DeviceIdentity>
    <DeviceFunction>
      <Family MainFamily="Gateway" ProductFamily="{name}"/>
    </DeviceFunction>
    <ApplicationProcess>
      <DeviceAccessPointList>
        <DeviceAccessPointItem ID="DAP" PNIO_Version="{VERSION}" PhysicalSlots="0..{last}" ModuleIdentNumber="0x{HEAD_MODULE:08X}" MinDeviceInterval="{least}" DNS_CompatibleName="{station}" FixedInSlots="0" ObjectUUID_LocalIndex="1" MultipleWriteSupported="false" DeviceAccessSupported="false" NameOfStationNotTransferable="false" LLDP_NoD_Supported="false">
          <ModuleInfo>
            <Name TextId="T_DAP"/>
            <InfoText TextId="T_DEVICE"/>
            <OrderNumber Value="{name}"/>
            <HardwareRelease Value="1"/>
            <SoftwareRelease Value="V{major}.{minor}.0"/>
          </ModuleInfo>
          <CertificationInfo ConformanceClass="A" ApplicationClass="" NetloadClass="I"/>
          <IOConfigData MaxInputLength="{most_in}" MaxOutputLength="{most_out}"/>
          <UseableModules>
"#,
        vendor = identity.vendor,
        product = identity.product,
        station = escaped(&layout.name),
        major = identity.revision.0,
        minor = identity.revision.1,
    );
    for own in &modules {
        let slots = listed(&own.slots);
        let _ = writeln!(
            out,
            r#"            <ModuleItemRef ModuleItemTarget="M_{:08X}" AllowedInSlots="{slots}" UsedInSlots="{slots}"/>"#,
            own.ident
        );
    }
    let _ = write!(
        out,
        r#"          </UseableModules>
          <VirtualSubmoduleList>
            <VirtualSubmoduleItem ID="DAP_S" SubmoduleIdentNumber="0x{dap:08X}" MayIssueProcessAlarm="false">
              <IOData/>
              <ModuleInfo>
                <Name TextId="T_DAP"/>
                <InfoText TextId="T_DEVICE"/>
              </ModuleInfo>
            </VirtualSubmoduleItem>
          </VirtualSubmoduleList>
          <SystemDefinedSubmoduleList>
            <InterfaceSubmoduleItem ID="IF" SubmoduleIdentNumber="0x{if_ident:08X}" SubslotNumber="{if_slot}" TextId="T_IF" SupportedRT_Classes="RT_CLASS_1">
              <ApplicationRelations StartupMode="Legacy;Advanced" NumberOfAR="1">
                <TimingProperties SendClock="32" ReductionRatio="{ratios}"/>
              </ApplicationRelations>
            </InterfaceSubmoduleItem>
            <PortSubmoduleItem ID="P1" SubmoduleIdentNumber="0x{port_ident:08X}" SubslotNumber="{port_slot}" TextId="T_P1">
              <MAUTypeList>
                <MAUTypeItem Value="16"/>
              </MAUTypeList>
            </PortSubmoduleItem>
          </SystemDefinedSubmoduleList>
        </DeviceAccessPointItem>
      </DeviceAccessPointList>
      <ModuleList>
"#,
        if_ident = interface.1,
        if_slot = interface.0,
        port_ident = head_port.1,
        port_slot = head_port.0,
        ratios = ratios.join(" "),
    );
    for own in &modules {
        module(&mut out, own);
    }
    let _ = write!(
        out,
        r#"      </ModuleList>
      <ExternalTextList>
        <PrimaryLanguage>
          <Text TextId="T_DEVICE" Value="{name}, image {image}"/>
          <Text TextId="T_DAP" Value="Head"/>
          <Text TextId="T_IF" Value="Interface"/>
          <Text TextId="T_P1" Value="Port 1"/>
"#,
        image = escaped(image),
    );
    for own in &modules {
        let (ident, words) = (own.ident, called(own));
        let _ = writeln!(out, r#"          <Text TextId="T_{ident:08X}" Value="{words}"/>"#);
    }
    out.push_str(
        "        </PrimaryLanguage>\n      </ExternalTextList>\n    </ApplicationProcess>\n  </ProfileBody>\n</ISO15745Profile>\n",
    );
    Some(out)
}

fn module(out: &mut String, own: &Module<'_>) {
    let ident = own.ident;
    let _ = write!(
        out,
        r#"        <ModuleItem ID="M_{ident:08X}" ModuleIdentNumber="0x{ident:08X}">
          <ModuleInfo>
            <Name TextId="T_{ident:08X}"/>
            <InfoText TextId="T_{ident:08X}"/>
          </ModuleInfo>
          <VirtualSubmoduleList>
"#
    );
    for one in &own.submodules {
        // One in subslot 1 is where it always is; others say where they are.
        let place = match one.subslot {
            1 => String::new(),
            own => format!(r#" FixedInSubslots="{own}""#),
        };
        let sub = one.ident();
        let _ = writeln!(
            out,
            r#"            <VirtualSubmoduleItem ID="S_{ident:08X}_{}" SubmoduleIdentNumber="0x{sub:08X}"{place} MayIssueProcessAlarm="false">
              <IOData>"#,
            one.subslot
        );
        for (tag, length) in [("Input", one.input), ("Output", one.output)] {
            if length > 0 {
                let _ = writeln!(
                    out,
                    r#"                <{tag} Consistency="All items consistency"><DataItem DataType="OctetString" Length="{length}" TextId="T_{ident:08X}"/></{tag}>"#
                );
            }
        }
        let _ = write!(
            out,
            r#"              </IOData>
              <ModuleInfo>
                <Name TextId="T_{ident:08X}"/>
                <InfoText TextId="T_{ident:08X}"/>
              </ModuleInfo>
            </VirtualSubmoduleItem>
"#
        );
    }
    out.push_str("          </VirtualSubmoduleList>\n        </ModuleItem>\n");
}

#[cfg(test)]
mod tests {
    use super::super::tests::{row, station};
    use super::*;
    use std::collections::BTreeSet;

    /// All that stands in quotes behind an attribute.
    fn all<'t>(text: &'t str, attribute: &str) -> Vec<&'t str> {
        let begin = format!(" {attribute}=\"");
        text.split(begin.as_str()).skip(1).filter_map(|rest| rest.split('"').next()).collect()
    }

    #[test]
    fn the_file_says_what_the_device_answers_with() {
        let part = Setup { numbers: vec![("slot", 4), ("subslot", 2), ("out", 2)], ..Setup::default() };
        let setup = station(&[row(1, 8, 0), row(2, 0, 4), row(3, 8, 0), row(4, 1, 0), part]);
        let identity = Setup { words: vec![("name", "Box <1> & \"co\"".into())], ..Setup::default() };
        let port = Setup { rows: vec![("identity", identity)], ..Setup::default() };
        let own = text("machine", &setup, &port).unwrap();
        let layout = StationLayout::of(&setup).unwrap();
        let idents: BTreeSet<String> = all(&own, "ModuleIdentNumber").into_iter().map(String::from).collect();
        let expected = layout.expected();
        let wanted: BTreeSet<String> = expected.iter().map(|own| format!("0x{:08X}", own.module)).collect();
        assert_eq!(idents, wanted, "the modules that a controller is told to expect");
        let idents: BTreeSet<String> =
            all(&own, "SubmoduleIdentNumber").into_iter().map(String::from).collect();
        let wanted: BTreeSet<String> = expected.iter().map(|own| format!("0x{:08X}", own.ident)).collect();
        assert_eq!(idents, wanted);
        // Every text that is named is there, and once.
        let named: BTreeSet<&str> = all(&own, "TextId").into_iter().collect();
        let there: Vec<&str> =
            own.split("<Text TextId=\"").skip(1).filter_map(|rest| rest.split('"').next()).collect();
        assert_eq!(named, there.iter().copied().collect());
        assert_eq!(there.len(), there.iter().collect::<BTreeSet<_>>().len());
        assert_eq!(all(&own, "AllowedInSlots"), ["1 3", "2", "4"], "one module for each kind of slot");
        assert_eq!(all(&own, "ReductionRatio"), ["8 16 32 64 128 256 512"]);
        assert!(own.contains("Box &lt;1&gt; &amp; &quot;co&quot;") && !own.contains("Box <1>"));
        // It is well-formed: no comment has two hyphens within, and every tag
        // that is opened is closed.
        let comment = own.split("<!--").nth(1).and_then(|rest| rest.split("-->").next()).unwrap();
        assert!(!comment.contains("--"));
        let mut open = vec![];
        for tag in own.split('<').skip(1).filter(|tag| !tag.starts_with(['?', '!'])) {
            let tag = tag.split('>').next().unwrap();
            let name = tag.trim_start_matches('/').split([' ', '/']).next().unwrap();
            match (tag.starts_with('/'), tag.ends_with('/')) {
                (true, _) => assert_eq!(open.pop(), Some(name)),
                (false, false) => open.push(name),
                (false, true) => {}
            }
        }
        assert!(open.is_empty(), "{open:?}");
        let name = file_name("machine", &port, (2026, 11, 30));
        assert_eq!(name, "GSDML-V2.35-Box__1_____co_-machine-20261130.xml");
    }
}
