/** The classes of devices, in the order in which they matter; a machine cannot do without the first two. */
export const classes = ["network", "storage", "display", "sound", "input", "usb", "board", "other"];
export const vital = ["network", "storage"];
