// A small button, for what is beside the work.
import { Button, styled, type ButtonProps } from '@mui/material'

const Frame = styled(Button)({ fontSize: 12, fontWeight: 450, lineHeight: '20px', padding: '0 6px' })

export const Mini = (props: ButtonProps) => <Frame {...props} />
