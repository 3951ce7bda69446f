//! The options that a capture was read with, as words of a command line.

use crate::cli::SetupArgs;
use clap::ValueEnum;

/// The options that say how something was recorded: given again they mean the same.
pub(super) fn options(setup: &SetupArgs) -> Vec<String> {
    let SetupArgs {
        image,
        debug_info,
        core_clock,
        global_clock,
        pc_sample_period,
        timestamp_prescaler,
        timestamp_clock,
        timestamp_dates_group,
        marks_port,
        watch,
        tick_period,
        flow_only,
        protocol,
        register,
        framing,
        trace_id,
        stream_source,
    } = setup;
    let mut words = Vec::new();
    let mut option = |name: &str, value: Option<String>| {
        if let Some(value) = value {
            words.extend([format!("--{name}"), value]);
        }
    };
    option("image", image.as_ref().map(|path| path.display().to_string()));
    option("debug-info", debug_info.as_ref().map(|path| path.display().to_string()));
    option("protocol", protocol.as_ref().and_then(word));
    option("framing", framing.as_ref().and_then(word));
    option("trace-id", trace_id.map(|id| id.to_string()));
    for (id, protocol) in stream_source {
        option("stream-source", word(protocol).map(|protocol| format!("{id}={protocol}")));
    }
    for (name, value) in register {
        option("register", Some(format!("{name}={value:#x}")));
    }
    option("core-clock", core_clock.map(|clock| format!("{}Hz", clock.hertz())));
    option("global-clock", global_clock.map(|clock| format!("{}Hz", clock.hertz())));
    option("pc-sample-period", pc_sample_period.map(|cycles| cycles.to_string()));
    option("timestamp-prescaler", timestamp_prescaler.map(|cycles| cycles.to_string()));
    option("timestamp-clock", timestamp_clock.map(|clock| format!("{}Hz", clock.hertz())));
    option("marks-port", marks_port.map(|port| port.to_string()));
    for (comparator, variable) in watch {
        option("watch", Some(format!("{comparator}={variable}")));
    }
    option("tick-period", tick_period.map(|time| format!("{}ns", time.as_nanos())));
    for (name, given) in
        [("timestamp-dates-group", timestamp_dates_group), ("flow-only", flow_only)]
    {
        if *given {
            words.push(format!("--{name}"));
        }
    }
    words
}

/// What a value of an option is called on the command line.
fn word<T: ValueEnum>(value: &T) -> Option<String> {
    value.to_possible_value().map(|value| value.get_name().to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::Parser;

    #[derive(Parser)]
    struct Given {
        #[command(flatten)]
        setup: SetupArgs,
    }

    #[test]
    fn what_was_given_is_said_again() {
        let read = |words: &str| {
            let words = std::iter::once("x").chain(words.split_whitespace());
            let given = Given::try_parse_from(words).unwrap_or_else(|why| panic!("{why}"));
            options(&given.setup).join(" ")
        };
        assert_eq!(read(""), "");
        let all = "--image fw.elf --debug-info dwo --protocol etmv4 --framing tpiu-buffer --trace-id 2 \
            --register trcconfigr=0x1811 --core-clock 47972352Hz --global-clock 1000000Hz --pc-sample-period 4096 \
            --timestamp-prescaler 4 --timestamp-clock 2000000Hz --marks-port 16 --watch 0=a.b[1] \
            --tick-period 1000000ns --timestamp-dates-group --flow-only";
        // Said again it means what it meant.
        assert_eq!(read(all), all);
        assert_eq!(
            read("--stream-source 1=itm,2=etmv3"),
            "--stream-source 1=itm --stream-source 2=etmv3"
        );
    }
}
