import type { Sheet } from "../sheet";
import { ConversionSheet } from "./conversion/ConversionSheet";
import { DeliverySheet } from "./delivery/DeliverySheet";
import { Intake } from "./Intake";
import { TwinsSheet } from "./twins/TwinsSheet";

export const INTAKE: Sheet = {
  path: "intake",
  name: "Intake",
  group: "start",
  pages: {
    "": <Intake />,
    "delivery/:delivery": <DeliverySheet />,
    conversion: <ConversionSheet />,
    twins: <TwinsSheet />,
  },
  keys: [
    ["↑ ↓", "edit of a delivery, material of a conversion, twin"],
    ["Enter", "all that is known of it"],
    ["K D B", "answer what is asked: yours, delivered, before"],
    ["K", "keep the conversion, or the twin that is chosen"],
    ["B", "held: the place without the twin"],
    ["[ ]", "viewpoint that is shown before and after; what is missing"],
  ],
};
