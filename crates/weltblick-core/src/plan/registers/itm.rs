//! Instrumentation trace macrocell (DDI 0403E, C1.7).

use super::{ITM_TRACE_ID, Register, Request};

const BASE: u64 = 0xe000_0000;

/// What must stand before the ITM is switched on.
pub(super) fn before(request: &Request<'_>) -> Vec<Register> {
    let ports = request.plan.observe.ports;
    let privileged = (0..4).fold(0, |mask, group| {
        let used = ports >> (8 * group) & 0xff != 0;
        mask | u32::from(!used) << group
    });
    vec![
        Register::unlock("ITM", BASE),
        Register::new("ITM_TER", BASE + 0xe00).field("STIMENA", 0, 32, ports, describe(ports)),
        Register::new("ITM_TPR", BASE + 0xe40).field(
            "PRIVMASK",
            0,
            4,
            privileged,
            "groups of eight ports that are left to privileged code",
        ),
    ]
}

fn describe(ports: u32) -> String {
    let on: Vec<String> =
        (0..32).filter(|port| ports >> port & 1 == 1).map(|port| port.to_string()).collect();
    match on.as_slice() {
        [] => "no stimulus port".into(),
        [port] => format!("stimulus port {port}"),
        several => format!("stimulus ports {}", several.join(", ")),
    }
}

/// The switch.
pub(super) fn control(request: &Request<'_>) -> Register {
    let observe = &request.plan.observe;
    let identity = u32::from(if request.formatter { ITM_TRACE_ID } else { 1 });
    let mut register = Register::new("ITM_TCR", BASE + 0xe80)
        .field("ITMENA", 0, 1, 1, "the ITM is on")
        .flag("TSENA", 1, observe.timestamp_prescaler.is_some(), "local timestamps")
        .field("SYNCENA", 2, 1, 1, "synchronisation packets")
        .field("TXENA", 3, 1, 1, "packets of the DWT are forwarded");
    if let Some(prescaler) = observe.timestamp_prescaler {
        let code = prescaler.trailing_zeros() / 2;
        register = register.field(
            "TSPrescale",
            8,
            2,
            code,
            match prescaler {
                1 => "a timestamp tick every core cycle".into(),
                _ => format!("a timestamp tick every {prescaler} core cycles"),
            },
        );
    }
    if observe.global_timestamps {
        register =
            register.field("GTSFREQ", 10, 2, 0b11, "a global timestamp at each synchronisation");
    }
    register.field("TraceBusID", 16, 7, identity, "the ITM's trace ID in formatter frames")
}
