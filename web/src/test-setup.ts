import { configure } from "@testing-library/react";

// A machine that also draws frames is slow at times: a thing is looked for longer before it is called missing.
configure({ asyncUtilTimeout: 6000 });
