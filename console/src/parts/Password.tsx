import { EyeInvisibleOutlined, EyeOutlined } from "@ant-design/icons";
import { Input, type InputProps } from "antd";

/** As large as a finger needs it (WCAG 2.2, 2.5.8). */
const large = { display: "inline-flex", alignItems: "center", justifyContent: "center", width: 24, height: 24 };

/** A field for a password, which can be shown. */
export function Password(props: InputProps) {
  return <Input.Password iconRender={(shown) => (shown ? <EyeOutlined style={large} /> : <EyeInvisibleOutlined style={large} />)} {...props} />;
}
