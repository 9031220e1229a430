//! What the findings that need no detection have to do with techniques of MITRE ATT&CK and with controls of NIST SP 800-53 revision 5,
//! ISO/IEC 27001:2022 Annex A and PCI DSS 4.

use super::finding::FindingKind;

/// Techniques and controls of a kind of finding.
pub(super) fn references(kind: FindingKind) -> (&'static [&'static str], &'static [&'static str]) {
    match kind {
        FindingKind::AroundGateway => (
            &["T1021", "T1078"],
            &["NIST SP 800-53 AC-17(3)", "NIST SP 800-53 SC-7", "ISO/IEC 27001 A.8.20", "PCI DSS 4 1.4.2", "PCI DSS 4 8.4.3"],
        ),
        FindingKind::OutsideHours => {
            (&["T1078"], &["NIST SP 800-53 AC-2(11)", "NIST SP 800-53 AC-17(1)", "ISO/IEC 27001 A.8.3", "PCI DSS 4 7.2.1"])
        }
        FindingKind::NotAllowed => {
            (&["T1078"], &["NIST SP 800-53 AC-3", "NIST SP 800-53 AC-6", "ISO/IEC 27001 A.5.15", "ISO/IEC 27001 A.8.3", "PCI DSS 4 7.2.2"])
        }
        FindingKind::UnmetDemand => {
            (&["T1556"], &["NIST SP 800-53 IA-2(1)", "NIST SP 800-53 AU-14", "ISO/IEC 27001 A.8.5", "PCI DSS 4 8.4.2"])
        }
        FindingKind::UnownedAccount => (
            &["T1136", "T1078.003"],
            &["NIST SP 800-53 AC-2", "ISO/IEC 27001 A.5.16", "ISO/IEC 27001 A.5.18", "PCI DSS 4 8.2.1", "PCI DSS 4 8.2.2"],
        ),
        FindingKind::UnknownSession => (&["T1649"], &["NIST SP 800-53 SC-17", "NIST SP 800-53 AU-9", "ISO/IEC 27001 A.8.24"]),
        FindingKind::SharedKey => {
            (&["T1552.004"], &["NIST SP 800-53 IA-2(5)", "NIST SP 800-53 IA-4", "ISO/IEC 27001 A.5.16", "PCI DSS 4 8.2.2"])
        }
        FindingKind::HostKeyChanged => {
            (&["T1557"], &["NIST SP 800-53 IA-3", "NIST SP 800-53 SC-23", "ISO/IEC 27001 A.8.20", "PCI DSS 4 4.2.1"])
        }
        FindingKind::AgentCloned => (&["T1552.004"], &["NIST SP 800-53 IA-3", "NIST SP 800-53 IA-9", "ISO/IEC 27001 A.8.5"]),
        FindingKind::UnownedKey => {
            (&["T1098.004"], &["NIST SP 800-53 AC-2", "NIST SP 800-53 IA-5", "ISO/IEC 27001 A.5.17", "PCI DSS 4 8.2.5"])
        }
        FindingKind::CredentialStuck => (&[], &["NIST SP 800-53 IA-5", "ISO/IEC 27001 A.5.17", "PCI DSS 4 8.6.3"]),
        FindingKind::EmergencyUsed => {
            (&[], &["NIST SP 800-53 AC-2(2)", "NIST SP 800-53 AC-6(9)", "ISO/IEC 27001 A.8.2", "PCI DSS 4 8.2.2"])
        }
        FindingKind::LogGap | FindingKind::LogCut => (
            &["T1070.002", "T1562"],
            &["NIST SP 800-53 AU-5", "NIST SP 800-53 AU-9", "ISO/IEC 27001 A.8.15", "PCI DSS 4 10.3.2", "PCI DSS 4 10.7.2"],
        ),
        FindingKind::RecordingMissing | FindingKind::RecordingDamaged | FindingKind::LogAltered => (
            &["T1070", "T1565.001"],
            &["NIST SP 800-53 AU-9", "NIST SP 800-53 AU-10", "ISO/IEC 27001 A.8.15", "PCI DSS 4 10.3.2", "PCI DSS 4 10.3.4"],
        ),
        FindingKind::ClockOff => (&["T1070.006"], &["NIST SP 800-53 AU-8", "ISO/IEC 27001 A.8.17", "PCI DSS 4 10.6.1"]),
        FindingKind::SourceSilent | FindingKind::LogNotUnderstood => {
            (&["T1562"], &["NIST SP 800-53 AU-5", "NIST SP 800-53 SI-4", "ISO/IEC 27001 A.8.15", "PCI DSS 4 10.7.2"])
        }
        FindingKind::PinSpraying => {
            (&["T1110.003"], &["NIST SP 800-53 AC-7", "NIST SP 800-53 SI-4", "ISO/IEC 27001 A.8.5", "PCI DSS 4 8.3.4"])
        }
        FindingKind::RuleWithdrawn => (&[], &["NIST SP 800-53 AC-2(3)", "ISO/IEC 27001 A.5.18", "PCI DSS 4 7.2.4"]),
        FindingKind::Detected => (&[], &[]),
    }
}
